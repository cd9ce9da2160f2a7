import { crc32 } from "node:zlib";
import { describe, expect, it } from "vitest";
import { randomBytesOf } from "../../tests/support/pieces-disk";
import { behind, multiply } from "./crc-arithmetic";

/** Truth: CRCs that zlib computes over the bytes as they are put together. */
describe("CRCs of bytes that are put together", () => {
  it.each([0, 1, 7, 512, 65_536, 1_000_003])("follow from those of the parts, with %i bytes behind", (length) => {
    const [one, other] = [randomBytesOf(length + 1, 4321), randomBytesOf(length + 2, length)];
    const both = crc32(Buffer.concat([one, other]));
    expect((multiply(behind(length), crc32(one)) ^ crc32(other)) >>> 0).toBe(both);
    // And back again.
    expect(multiply(behind(-length), (both ^ crc32(other)) >>> 0)).toBe(crc32(one));
  });
});
