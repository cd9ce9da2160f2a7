import { expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { RowsByNumber } from "./rows-by-number";

it("rows are found by their number in the order in which they were added, whatever numbers there are", () => {
  const random = seeded(5);
  const rows = new RowsByNumber();
  const wanted = new Map<number | bigint, number[]>();
  const numbers = [0, -1, 2 ** 31, 2 ** 53 - 1, -(2 ** 52), 2n ** 62n, -(2n ** 63n), 0.5];
  for (let row = 0; row < 50_000; row += 1) {
    // Consecutive ones, multiples of a power of two, and anything.
    const number = [row, row * 4096, Math.floor(random() * 2 ** 40), numbers[row % numbers.length] as number][row % 4] as number;
    rows.add(number, row);
    wanted.set(number, [...(wanted.get(number) ?? []).slice(-20), row]);
  }
  expect(rows.size).toBe(wanted.size);
  for (const [number, last] of wanted) {
    const found = [...rows.rowsOf(number)];
    expect(found.slice(-last.length)).toEqual(last);
    expect(rows.has(number)).toBe(true);
  }
  for (const none of [3.25, -7, 2n ** 61n, Number.NaN, "1", null, undefined]) {
    expect(rows.has(none)).toBe(false);
    expect([...rows.rowsOf(none)]).toEqual([]);
  }
});
