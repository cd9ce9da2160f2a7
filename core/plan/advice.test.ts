import { describe, expect, it } from "vitest";
import { CAUSES, type Cause } from "./account";
import { type AdviceFacts, adviceFor } from "./advice";

const facts = (more: Partial<AdviceFacts>): AdviceFacts => ({
  causes: [],
  restored: false,
  placed: false,
  failing: [],
  sets: null,
  ...more,
});

describe("the advice", () => {
  it.each(Object.keys(CAUSES) as Cause[])("after “%s” is sentences, each once, with what always holds", (cause) => {
    const advice = adviceFor(facts({ causes: [cause, cause], restored: true }));
    expect(new Set(advice).size).toBe(advice.length);
    for (const sentence of advice) expect(sentence).toMatch(/^[A-Z].*\.$/);
    expect(advice[0]).toContain("Open each restored file");
    expect(advice.at(-1)).toContain("second copy");
  });

  it("follows from the cause: closing without saving leads to autosave, a card that was formatted does not", () => {
    expect(adviceFor(facts({ causes: ["closed-unsaved"] })).join(" ")).toContain("every few minutes");
    expect(adviceFor(facts({ causes: ["formatted"] })).join(" ")).not.toContain("every few minutes");
    expect(adviceFor(facts({ causes: ["formatted"] })).join(" ")).toContain("two devices before it is formatted");
  });

  it("has an application closed while its files are put back, and only then", () => {
    expect(adviceFor(facts({ restored: true, placed: true })).join(" ")).toContain("Close an application before its files are put back");
    expect(adviceFor(facts({ restored: true })).join(" ")).not.toContain("Close an application");
  });

  it("follows from the findings: a drive that could not be read, no backup, an old one", () => {
    const without = adviceFor(facts({})).join(" ");
    expect(without).not.toMatch(/failing|No backup was found|The backup on/);
    const found = adviceFor(facts({ failing: ["laptop.img"], sets: [{ where: "Old disk", last: "3 March 2026" }] })).join(" ");
    expect(found).toContain("Parts of “laptop.img” could not be read");
    expect(found).toContain("The backup on “Old disk” ends on 3 March 2026");
    expect(adviceFor(facts({ sets: [] })).join(" ")).toContain("No backup was found");
  });

  it("does not say to open restored files where there are none", () => {
    expect(adviceFor(facts({})).join(" ")).not.toContain("Open each restored file");
  });
});
