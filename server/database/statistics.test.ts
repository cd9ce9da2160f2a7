import { describe, expect, it } from "vitest";
import { hasDoubled, MANY_ROWS } from "./statistics";

describe("a table that grows", () => {
  it("has doubled when it reaches many rows first, and then at each doubling of them", () => {
    const at: number[] = [];
    for (let rows = 0; rows < 20 * MANY_ROWS; rows += 10) if (hasDoubled(rows, rows + 10)) at.push(rows + 10);
    expect(at).toEqual([1, 2, 4, 8, 16].map((times) => times * MANY_ROWS));
  });

  it("has doubled by one large step over several doublings, and not by a step that brings nothing", () => {
    expect(hasDoubled(0, 50 * MANY_ROWS)).toBe(true);
    expect(hasDoubled(MANY_ROWS, MANY_ROWS)).toBe(false);
    expect(hasDoubled(0, MANY_ROWS - 1)).toBe(false);
  });
});
