import { describe, expect, it } from "vitest";
import { SetCounter } from "./set-facts";

const about = { kind: "dated-archives", root: "/mo", machine: "LARKFIELD-LT", user: null } as const;
const state = (asOf: number | null, unfinished = false) => ({ asOf, unfinished });

describe("what is known of a set", () => {
  it("covers the innermost folder all its files stood in, by whole names", () => {
    const covers = (...paths: string[]) => {
      const counter = new SetCounter(about, []);
      for (const path of paths) counter.sawFile(path);
      return counter.facts(0).covers;
    };
    expect(covers()).toBeNull();
    expect(covers("C:/Users/mira/a.txt", "C:/Users/mira/sub/b.txt")).toBe("C:/Users/mira");
    expect(covers("C:/Users/mira/a.txt", "C:/Users/mirabel/b.txt")).toBe("C:/Users");
    expect(covers("C:/Users/mira", "C:/Users/mira/b.txt")).toBe("C:/Users");
    expect(covers("/a/b.txt", "/c/d.txt")).toBe("/");
    expect(covers("C:/a.txt", "D:/b.txt")).toBe("/");
  });

  it("says how many states were read, from when to when, which broke off and which are in the future", () => {
    const counter = new SetCounter(about, [state(2000), state(1000, true), state(null), state(9000)]);
    counter.sawState(["part 2 is missing", "part 2 is missing"]);
    counter.sawState(["part 2 is missing"]);
    expect(counter.facts(5000)).toMatchObject({
      states: 4,
      read: 2,
      first: 1000,
      last: 9000,
      unfinished: 1,
      notes: [
        { what: "This is in the future: a clock was wrong.", states: 1 },
        { what: "part 2 is missing", states: 2 },
      ],
    });
  });

  it("counts contents, bytes and what is encrypted, and keeps no more notes than can be read", () => {
    const counter = new SetCounter(about, [state(1)]);
    counter.sawVersion({ size: 10, absent: null });
    counter.sawVersion({ size: 5, absent: "encrypted" });
    counter.sawState(Array.from({ length: 5000 }, (_, index) => `member ${index} is damaged`));
    const facts = counter.facts(5);
    expect(facts).toMatchObject({ versions: 2, bytes: 15, encrypted: 1 });
    expect(facts.notes).toHaveLength(25);
    expect(facts.notes.at(-1)?.what).toBe("4976 further notes are left out here.");
  });
});
