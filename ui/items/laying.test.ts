import { describe, expect, it } from "vitest";
import { addSeam, lettersOf, moveBeginning, moveSeam, placeFrom, seamTyped, withoutLastSeam } from "./laying";

const grid = { cluster: 4096, origin: 512, from: 512, to: 512 + 4096 * 1000 };
const at = (cluster: number) => 512 + cluster * 4096;

describe("pieces that are laid by hand", () => {
  const pieces = [
    { at: at(2), length: 3 * 4096 },
    { at: at(20), length: 2 * 4096 },
    { at: at(9), length: 700 },
  ];

  it("keep what is behind a moved seam in its place in the file", () => {
    const moved = moveSeam(pieces, 0, 4096);
    expect(moved).toEqual([{ at: at(2), length: 4 * 4096 }, { at: at(21), length: 4096 }, pieces[2]]);
    const ends = (all: typeof pieces) => (all[0]?.length ?? 0) + (all[1]?.length ?? 0);
    expect(ends(moved as typeof pieces)).toBe(ends(pieces));
    expect(moveSeam(moved, 0, -4096)).toEqual(pieces);
  });

  it("are not moved so that one has no byte left", () => {
    expect(moveSeam(pieces, 0, 2 * 4096)).toBe(pieces);
    expect(moveSeam(pieces, 0, -3 * 4096)).toBe(pieces);
    expect(moveSeam(pieces, 2, 4096)).toBe(pieces);
    expect(moveBeginning(pieces, 1, -1)).toBe(pieces);
  });

  it("end at the cluster nearest to a length that was typed", () => {
    expect(seamTyped(pieces, 0, "16 000", 4096)?.[0]).toEqual({ at: at(2), length: 4 * 4096 });
    expect(seamTyped(pieces, 0, "12,288", 4096)).toBe(pieces);
    for (const text of ["", "0", "-4096", "0x1000", "4k", "999999", "20480"]) expect(seamTyped(pieces, 0, text, 4096), text).toBeNull();
  });

  it("begin elsewhere by themselves", () => {
    expect(moveBeginning(pieces, 1, at(30))).toEqual([pieces[0], { at: at(30), length: 2 * 4096 }, pieces[2]]);
  });

  it("get a seam where the file breaks off, and lose the last again", () => {
    const one = [{ at: at(2), length: 50_000 }];
    const cut = addSeam(one, { breaks: { at: 9000, reason: "" }, size: 50_000, grid });
    expect(cut).toEqual([
      { at: at(2), length: 2 * 4096 },
      { at: at(5), length: 0 },
    ]);
    expect(withoutLastSeam(cut)).toEqual([{ at: at(2), length: 0 }]);
    // Nothing shows where: in the middle. A break in its first cluster leaves it that.
    expect(addSeam(one, { breaks: null, size: 40_960, grid })[0]).toEqual({ at: at(2), length: 5 * 4096 });
    expect(addSeam(one, { breaks: { at: 10, reason: "" }, size: 50_000, grid })[0]).toEqual({ at: at(2), length: 4096 });
  });

  it("take a typed place, in both ways of writing, to the cluster it is in", () => {
    expect(placeFrom("0x0000_1200", grid)).toBe(at(1));
    expect(placeFrom("9,000", grid)).toBe(at(2));
    for (const text of ["", "x", "0x", "-5", "1e9", "99999999999", "100"]) expect(placeFrom(text, grid), text).toBeNull();
  });

  it("show letters as letters, and everything else as dots", () => {
    expect(lettersOf(Buffer.from("Ab \0\n\xff~", "latin1").toString("base64"))).toBe("Ab ···~");
  });
});
