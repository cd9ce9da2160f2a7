import { describe, expect, it } from "vitest";
import { macStructures } from "../tests/support/mac-truth";
import { mutateApart } from "../tests/support/mutate-apart";
import { readDisk, type SubjectName } from "../tests/support/mutations";

const MAC: readonly SubjectName[] = ["hfs+", "hfs+ with a journal", "apfs", "compressed disk image", "sparse disk image"];
const ROUNDS = Number(process.env.COMPASS_MUTATIONS ?? 5_000);
const MOST_MEMORY = 512 << 20;
/** Milliseconds of processor time a round: the slowest takes about 130 on a quiet machine. */
const SLOWEST_MS = 2_000;

describe("damaged Mac volumes and images", () => {
  it.each(MAC)(`%s: ${ROUNDS} mutations never crash, hang or fill the memory`, { timeout: 900_000 }, async (name) => {
    const { found, slowest, memory } = await mutateApart(name, 0, ROUNDS);
    expect(slowest).toBeLessThan(SLOWEST_MS);
    expect(memory).toBeLessThan(MOST_MEMORY);
    // The mutations must leave something to read, or they would test nothing.
    expect(found).toBeGreaterThan(ROUNDS / 10);
  });

  // Larger than the others: fewer rounds here, and as many as wanted in `npm run fuzz`.
  it(`sealed apfs: ${ROUNDS / 5} mutations never crash, hang or fill the memory`, { timeout: 900_000 }, async () => {
    const { found, slowest, memory } = await mutateApart("sealed apfs", 0, ROUNDS / 5);
    expect(slowest).toBeLessThan(SLOWEST_MS);
    expect(memory).toBeLessThan(MOST_MEMORY);
    expect(found).toBeGreaterThan(ROUNDS / 10);
  });

  it.each([8792, 13_224, 18_187, 41_806, 67_102])("apfs, round %i: an entry of a map that has no value is left out", async (round) => {
    expect((await mutateApart("apfs", round, round + 1)).found).toBeGreaterThan(10);
  });

  it("hfs+, round 55726: a list of extents that claims to be larger than its volume is not given room for that", async () => {
    expect((await mutateApart("hfs+", 55_726, 55_727)).slowest).toBeLessThan(SLOWEST_MS);
  });

  it.each(["hfsplus-small", "apfs-checkpoints"])("%s cut off anywhere still gives what is there, or says why not", (name) => {
    const bytes = macStructures(name).slice(0, 2_400_000);
    for (let length = 0; length < bytes.length; length += 74_897) expect(() => readDisk(bytes.subarray(0, length))).not.toThrow();
  });
});
