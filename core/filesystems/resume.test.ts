import { describe, expect, it } from "vitest";
import { macSource } from "../../tests/support/mac-truth";
import { imageSource } from "../../tests/support/volume-truth";
import { type Checkpoint, numberCheckpoint, textCheckpoint } from "../bytes/checkpoint";
import { inspectDisk, openVolume } from "../volumes/inspect";
import type { FileRecord, RecordBatch } from "./file-record";

const IMAGES = [
  "fat12",
  "fat16",
  "fat32",
  "exfat",
  "ntfs-gpt",
  "ntfs-4kn",
  "ntfs-features",
  "ntfs-scattered",
  "ntfs-reformatted",
  "nested",
];
const MAC_IMAGES = ["hfsplus-mixed", "journal-bigendian", "apfs-checkpoints", "apfs-features"];

/** A record by what no other has alone: where it stands, its name, and what it says. */
const keyOf = ({ reference, path, state, size }: FileRecord) => `${reference} ${path} ${state} ${size}`;
const keysOf = (batches: Iterable<RecordBatch>) => [...batches].flatMap(({ records }) => records.map(keyOf));

describe("records of a volume", () => {
  it.each([...IMAGES, ...MAC_IMAGES])(
    "of %s go on from every checkpoint with the very rest, in a process that knows nothing else",
    (name) => {
      const disk = MAC_IMAGES.includes(name) ? macSource(name) : imageSource(name);
      let checked = 0;
      for (const report of inspectDisk(disk).volumes) {
        if (report.filesystem === "unknown" || report.closed) continue;
        const open = () => openVolume(disk, report);
        for (const step of [7, 61]) {
          const batches = [...open().readRecords(null, step)];
          const all = keysOf(batches);
          expect(all.length).toBeGreaterThan(0);
          const every = Math.max(1, Math.floor(batches.length / 40));
          let given = 0;
          batches.forEach(({ records, resume }, index) => {
            given += records.length;
            if (index % every !== 0 && index !== batches.length - 1) return;
            // As the database gives it back.
            const kept: Checkpoint = Buffer.from(resume);
            expect(keysOf(open().readRecords(kept, step)), `${report.filesystem}, step ${step}, batch ${index}`).toEqual(all.slice(given));
            checked += 1;
          });
        }
      }
      expect(checked).toBeGreaterThan(5);
    },
  );

  it("are not read on from a checkpoint of another kind of reader, nor from one that is no checkpoint", () => {
    const disk = imageSource("fat12");
    const report = inspectDisk(disk).volumes[0] as ReturnType<typeof inspectDisk>["volumes"][number];
    for (const wrong of [
      textCheckpoint({ folder: "", name: "", done: 1 }),
      new Uint8Array(),
      Uint8Array.of(1, 2),
      new Uint8Array(9).fill(255),
    ])
      expect(() => [...openVolume(disk, report).readRecords(wrong, 7)]).toThrow("not of this reader");
    // Behind the end there is nothing.
    expect(keysOf(openVolume(disk, report).readRecords(numberCheckpoint(10 ** 12), 7))).toEqual([]);
  });
});
