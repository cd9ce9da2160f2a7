import { deflateRawSync, gzipSync } from "node:zlib";
import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { damagedFile } from "../../tests/support/file-mutations";
import { fixture } from "../../tests/support/volume-truth";
import { MemorySource, readBytes } from "../bytes/byte-source";
import { repair } from "./repair";

/** Repairs and reads all that comes of it; a repair that does not end, or ends in anything but a file or null, fails the test. */
function mend(bytes: Uint8Array, name: string, sibling: Uint8Array | null = null): number {
  const before = Buffer.from(bytes);
  const file = repair(new MemorySource(bytes), name, sibling && new MemorySource(sibling));
  // The damaged file is never touched.
  expect(Buffer.compare(before, bytes)).toBe(0);
  if (!file) return 0;
  expect(file.done.length).toBeGreaterThan(0);
  return readBytes(file.content, 0, file.content.size).length;
}

describe("repair of hostile files", () => {
  it("of recordings ends, whatever they and their model hold", { timeout: 60_000 }, () => {
    const { films } = JSON.parse(fixture("films.json.gz").toString()) as { films: { sibling: string; film: string }[] };
    for (const each of films) {
      const [film, sibling] = [Buffer.from(each.film, "base64"), Buffer.from(each.sibling, "base64")];
      const data = film.subarray(0, film.lastIndexOf("moov") - 4);
      const index = sibling.lastIndexOf("moov");
      let repaired = 0;
      for (let number = 0; number < 150; number += 1) {
        if (mend(damagedFile(data, number), "film.mp4", sibling) > 0) repaired += 1;
        // The model's index is where numbers lead somewhere.
        const model = Buffer.from(sibling);
        const random = seeded(number);
        for (let i = 0; i < 8; i += 1) model[index + Math.floor(random() * (model.length - index))] = Math.floor(random() * 256);
        mend(data, "film.mp4", model);
      }
      expect(repaired).toBeGreaterThan(75);
    }
  });

  it("of packed files ends, and never fills the memory", { timeout: 60_000 }, () => {
    const text = Buffer.from(Array.from({ length: 20_000 }, (_, i) => `night ${i}: ${(i * 7919) % 97}\n`).join(""));
    const packed = gzipSync(text, { level: 9 });
    let longer = 0;
    for (let number = 0; number < 200; number += 1) if (mend(damagedFile(packed, number), "log.txt.gz") > text.length / 4) longer += 1;
    expect(longer).toBeGreaterThan(50);
    // Blocks of a bomb behind a damage: a thousand times as long unpacked.
    const bomb = deflateRawSync(Buffer.alloc(1 << 27), { level: 9 });
    const hostile = Buffer.concat([packed.subarray(0, 40), Buffer.alloc(64, 0xff), bomb, bomb]);
    const before = process.memoryUsage().rss;
    mend(hostile, "log.txt.gz");
    expect(process.memoryUsage().rss - before).toBeLessThan(512 << 20);
  });

  it("of archives within packed files takes no header for another", () => {
    // Headers that say nothing: their checksums are right, but what follows leads nowhere.
    const header = Buffer.alloc(512);
    header.write("a.txt");
    header.write("ustar\0", 257);
    header.write("77777777777\0", 124);
    header.fill(0x20, 148, 156);
    header.write(
      header
        .reduce((sum, byte) => sum + byte, 0)
        .toString(8)
        .padStart(6, "0"),
      148,
    );
    const packed = gzipSync(Buffer.concat(Array.from({ length: 400 }, () => header)));
    for (let number = 0; number < 60; number += 1) mend(damagedFile(packed, number), "a.tar.gz");
    expect(mend(Buffer.concat([header, header]), "a.tar")).toBeGreaterThanOrEqual(0);
  });
});
