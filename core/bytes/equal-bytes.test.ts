import { expect, it } from "vitest";
import { randomBytesOf } from "../../tests/support/pieces-disk";
import { MemorySource } from "./byte-source";
import { equalBytesIn } from "./equal-bytes";

it("finds every run that is twice as long, none that is shorter, wherever they stand", () => {
  for (let at = 0; at < 70_000; at += 1009) {
    const bytes = randomBytesOf(3, 70_200);
    bytes.fill(0xf6, at, at + 64);
    const found = equalBytesIn(new MemorySource(bytes), 0, bytes.length, 32);
    expect(found, String(at)).toBeGreaterThanOrEqual(at);
    expect(found).toBeLessThanOrEqual(at + 32);
    expect(equalBytesIn(new MemorySource(bytes), 0, bytes.length, 66)).toBeNull();
    // What stands outside the stretch that is asked for counts for nothing.
    expect(equalBytesIn(new MemorySource(bytes), 0, at, 32)).toBeNull();
    expect(equalBytesIn(new MemorySource(bytes), at + 64, bytes.length, 32)).toBeNull();
  }
});

it("has nothing to say of less than that", () => {
  expect(equalBytesIn(new MemorySource(new Uint8Array(31)), 0, 31, 32)).toBeNull();
  expect(equalBytesIn(new MemorySource(new Uint8Array(32)), 0, 32, 32)).toBe(0);
});
