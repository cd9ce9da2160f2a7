import { crc32 } from "node:zlib";
import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { fixture } from "../../tests/support/volume-truth";
import { MemorySource } from "../bytes/byte-source";
import { runFollow } from "./registry";
import { sevenZip } from "./seven-zip";

/** Truth: archives made by p7zip (make-seven-zip.ts). */
const { archives } = JSON.parse(fixture("seven-zip.json.gz").toString()) as { archives: { name: string; content: string }[] };
const NOT_FOLLOWED = new Set(["ppmd", "with a filter", "with several streams", "locked", "list locked too"]);
const AFTER = Buffer.alloc(5000, 0x5a);
const follow = (...parts: readonly Uint8Array[]) => runFollow(sevenZip, new MemorySource(Buffer.concat(parts)));

describe("7z archives", () => {
  it.each(archives)("$name: its end is found, and what it holds compared where its coding is known", ({ name, content }) => {
    const whole = Buffer.from(content, "base64");
    const extent = follow(whole, AFTER);
    expect(extent?.size).toBe(whole.length);
    expect(extent?.closed).toBe(true);
    expect(extent?.verdict.verdict).toBe(NOT_FOLLOWED.has(name) ? "cannot-tell" : "sound");
    if (name.includes("locked")) expect(extent?.verdict).toMatchObject({ reason: "the archive is protected by a password" });
  });

  it.each(archives.filter(({ name }) => !NOT_FOLLOWED.has(name)))(
    "$name: hardly a changed byte goes unnoticed",
    { tags: "long" },
    ({ content }) => {
      const whole = Buffer.from(content, "base64");
      let unnoticed = 0;
      // Mark and version before byte 8 are looked at when an archive is recognised.
      for (let at = 8; at < whole.length; at += 7) {
        const changed = Buffer.from(whole);
        changed[at] = (changed[at] as number) ^ 0x24;
        if (follow(changed)?.verdict.verdict === "sound") unnoticed += 1;
      }
      // The last bytes of a packed stream may not be needed to unpack it.
      expect(unnoticed).toBeLessThanOrEqual(2);
    },
  );

  it.each(archives)("$name: cut off, or with foreign clusters in it, it is never sound, and nothing hangs or throws", ({ content }) => {
    const whole = Buffer.from(content, "base64");
    const random = seeded(whole.length);
    for (let turn = 0; turn < 60; turn += 1) {
      const at = 32 + Math.floor(random() * (whole.length - 64));
      expect(follow(whole.subarray(0, at))?.verdict.verdict).not.toBe("sound");
      const foreign = Buffer.from(Array.from({ length: 512 }, () => Math.floor(random() * 256)));
      expect(follow(whole.subarray(0, at), foreign, whole.subarray(at + 512))?.verdict.verdict).not.toBe("sound");
    }
  });

  /** The same archive with its header's sums made right again. */
  const summed = (archive: Buffer, listAt: number): Buffer => {
    archive.writeBigUInt64LE(BigInt(listAt - 32), 12);
    archive.writeUInt32LE(crc32(archive.subarray(listAt)), 28);
    archive.writeUInt32LE(crc32(archive.subarray(12, 32)), 8);
    return archive;
  };

  it.each(archives.filter(({ name }) => !NOT_FOLLOWED.has(name)))(
    "$name: with bytes in it that its list does not name it is not sound",
    ({ content }) => {
      const whole = Buffer.from(content, "base64");
      const listAt = 32 + Number(whole.readBigUInt64LE(12));
      const wider = Buffer.concat([whole.subarray(0, listAt), Buffer.alloc(64, 7), whole.subarray(listAt)]);
      expect(follow(summed(wider, listAt + 64))?.verdict.verdict).toBe("cannot-tell");
    },
  );

  it("with a list of properties alone, or an empty one behind other bytes, it is not sound", () => {
    const head = Buffer.from(archives[0]?.content ?? "", "base64").subarray(0, 32);
    const archiveOf = (listAt: number, list: readonly number[]) => {
      const made = Buffer.concat([head, Buffer.alloc(listAt - 32, 7), Buffer.from(list)]);
      made.writeBigUInt64LE(BigInt(list.length), 20);
      return summed(made, listAt);
    };
    expect(follow(archiveOf(32, [1, 0]))?.verdict.verdict).toBe("sound");
    for (const forged of [archiveOf(32, [1, 2, 0, 0]), archiveOf(96, [1, 0]), archiveOf(96, [])])
      expect(follow(forged)?.verdict.verdict).toBe("cannot-tell");
  });

  it("a list that claims anything at all is refused, though its checksum is right", { tags: "long" }, () => {
    const random = seeded(3);
    const plain = Buffer.from(archives.find(({ name }) => name === "list not packed")?.content ?? "", "base64");
    const listAt = 32 + Number(plain.readBigUInt64LE(12));
    for (let turn = 0; turn < 3000; turn += 1) {
      const forged = Buffer.from(plain);
      for (let change = 0; change < 1 + (turn % 4); change += 1)
        forged[listAt + 1 + Math.floor(random() * (forged.length - listAt - 1))] = turn % 3 === 0 ? 0xff : Math.floor(random() * 256);
      forged.writeUInt32LE(crc32(forged.subarray(listAt)), 28);
      forged.writeUInt32LE(crc32(forged.subarray(12, 32)), 8);
      const extent = follow(forged);
      expect(extent?.size).toBe(forged.length);
      expect(["sound", "cannot-tell", "damaged"]).toContain(extent?.verdict.verdict);
    }
  });
});
