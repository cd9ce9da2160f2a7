import { describe, expect, it } from "vitest";
import { mutateApart } from "../tests/support/mutate-apart";
import { readDisk, type SubjectName } from "../tests/support/mutations";
import { SLOWEST_MS } from "../tests/support/thread-time";
import { fixture } from "../tests/support/volume-truth";

const WINDOWS: readonly SubjectName[] = ["ntfs", "fat", "exfat", "vhd", "vhdx", "vhdx with a log"];
const BACKUPS: readonly SubjectName[] = ["tape", "zip archive", "zip archive of 64 bits", "tar archive", "tar archive of another form"];
const PACKED: readonly SubjectName[] = ["tar archive packed by gzip", "tar archive packed by bzip2", "tar archive packed by xz"];
const SETTINGS: readonly SubjectName[] = ["binary property list", "xml settings", "json settings", "settings a line each"];
const ROUNDS = Number(process.env.COMPASS_MUTATIONS ?? 5_000);
const SLOW_ROUNDS = Math.ceil(ROUNDS / 5);
const MOST_MEMORY = 512 << 20;

describe("damaged volumes and containers", () => {
  it.each(WINDOWS)(`%s: ${ROUNDS} mutations never crash, hang or fill the memory`, { timeout: 600_000 }, async (name) => {
    const { found, slowest, memory } = await mutateApart(name, 0, ROUNDS);
    expect(slowest).toBeLessThan(SLOWEST_MS);
    expect(memory).toBeLessThan(MOST_MEMORY);
    // The mutations must leave something to read, or they would test nothing.
    expect(found).toBeGreaterThan(ROUNDS / 10);
  });

  it.each(SETTINGS)(`%s: ${ROUNDS} mutations never crash, hang or fill the memory`, { timeout: 600_000 }, async (name) => {
    const { found, slowest, memory } = await mutateApart(name, 0, ROUNDS);
    expect(slowest).toBeLessThan(SLOWEST_MS);
    expect(memory).toBeLessThan(MOST_MEMORY);
    // What is left of a damaged file is given.
    expect(found).toBeGreaterThan(ROUNDS * 5);
  });

  it.each(BACKUPS)(`%s: ${SLOW_ROUNDS} mutations never crash, hang or fill the memory`, { timeout: 600_000 }, async (name) => {
    const { found, slowest, memory } = await mutateApart(name, 0, SLOW_ROUNDS);
    expect(slowest).toBeLessThan(SLOWEST_MS);
    expect(memory).toBeLessThan(MOST_MEMORY);
    expect(found).toBeGreaterThan(SLOW_ROUNDS * 5);
  });

  // Damage in what is packed as one mostly leaves only what stands before it.
  it.each(PACKED)(`%s: ${SLOW_ROUNDS} mutations never crash, hang or fill the memory`, { timeout: 600_000 }, async (name) => {
    const { found, slowest, memory } = await mutateApart(name, 0, SLOW_ROUNDS);
    expect(slowest).toBeLessThan(SLOWEST_MS);
    expect(memory).toBeLessThan(MOST_MEMORY);
    expect(found).toBeGreaterThan(SLOW_ROUNDS);
  });

  // Each round reads a whole state.
  it(`snapshots inside a volume: ${SLOW_ROUNDS} mutations never crash, hang or fill the memory`, { timeout: 600_000 }, async () => {
    const { found, slowest, memory } = await mutateApart("ntfs with snapshots", 0, SLOW_ROUNDS);
    expect(slowest).toBeLessThan(SLOWEST_MS);
    expect(memory).toBeLessThan(MOST_MEMORY);
    expect(found).toBeGreaterThan(SLOW_ROUNDS * 10);
  });

  it.each(["tiny-ntfs", "fat12"])("%s cut off anywhere still gives what is there, or says why not", (name) => {
    const bytes = Uint8Array.from(fixture(`${name}.img.gz`));
    for (let length = 0; length < bytes.length; length += 24_577) expect(() => readDisk(bytes.subarray(0, length))).not.toThrow();
  });
});
