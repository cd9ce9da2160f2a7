import { describe, expect, it } from "vitest";
import { factsOf, usable } from "./facts";

describe("what is kept of what content says", () => {
  it("is no title or author that programs put where one should stand", () => {
    for (const words of ["Untitled", "document1", "  (anonymous) ", "Slide 1", "unknown", "S3", ""]) expect(usable(words)).toBeUndefined();
    expect(usable("  Plan for the new dome ")).toBe("Plan for the new dome");
    expect(usable("Document of intent")).toBe("Document of intent");
    expect(usable(undefined)).toBeUndefined();
  });

  it("is everything else, but for the place of the small picture", () => {
    const facts = factsOf({ title: "untitled", author: "Mo Ardent", taken: 5, width: 10, height: 20, thumbnail: { at: 1, length: 2 } });
    expect(facts).toEqual({ author: "Mo Ardent", taken: 5, width: 10, height: 20 });
    expect(factsOf({ title: " The winter sky " })).toEqual({ title: "The winter sky" });
    expect(factsOf({})).toEqual({});
  });
});
