import { zipSync } from "fflate";
import { describe, expect, it } from "vitest";
import { carveImage, type PlacedFile } from "../../../tests/support/lab-files";
import { diskOfPieces, randomBytesOf } from "../../../tests/support/pieces-disk";
import { type ByteSource, MemorySource } from "../../bytes/byte-source";
import { unpacked } from "../../bytes/unpacked";
import { formatById, runFollow } from "../../formats/registry";
import { Domain } from "../domain";
import type { Find } from "../find";
import { sweep } from "../sweep";
import { USUAL } from "./effort";
import { joinPieces } from "./join";
import { Allowance, type PieceRoom } from "./pieces";

const { bytes, files } = carveImage();
const contentOf = ({ extents }: PlacedFile) => Buffer.concat(extents.map(([, at, length]) => bytes.subarray(at, at + length)));
const CLUSTER = 1024;

/** A source that counts what is read of it. */
class Counted implements ByteSource {
  read_ = 0;
  readonly size: number;
  constructor(private readonly source: ByteSource) {
    this.size = source.size;
  }
  read(at: number, into: Uint8Array): void {
    this.read_ += into.length;
    this.source.read(at, into);
  }
  unreadable(at: number, length: number) {
    return this.source.unreadable(at, length);
  }
}

function openFind(disk: Uint8Array, at: number, id: string): Find {
  const format = formatById.get(id);
  if (!format) throw new Error(id);
  const extent = runFollow(format, new MemorySource(disk.subarray(at)));
  if (!extent) throw new Error(`no ${id} at ${at}`);
  return { format, at, size: extent.size, segments: [{ at, length: extent.size }], extent, summary: {}, inside: null };
}

describe("what is read for putting a file together", () => {
  it.each(["photo", "pdf", "docx", "png", "xls"])("ends soon after what is allowed is used up: %s", (kind) => {
    const file = files.find((each) => each.kind === kind && /^(contiguous|fragmented)/.test(each.state) && each.size > 9000);
    if (!file) throw new Error(`no ${kind}`);
    const made = diskOfPieces(contentOf(file), { seed: 77, cluster: CLUSTER, pieces: 2, around: "noise" });
    if (!made) throw new Error("too small");
    const disk = Buffer.concat([made.disk, randomBytesOf(3, 1 << 22)]);
    const at = made.segments[0]?.at as number;
    const find = openFind(disk, at, kind === "photo" ? "jpeg" : kind === "xls" ? "compound" : kind);
    const tried = (allowed: number) => {
      const counted = new Counted(new MemorySource(disk));
      const room: PieceRoom = {
        disk: new Allowance(counted, allowed),
        effort: USUAL,
        cluster: CLUSTER,
        origin: 0,
        limitOf: () => disk.length,
        freeFrom: (_, length) => length,
        beginsIn: () => false,
      };
      return { joined: joinPieces(room, find), read: counted.read_ };
    };
    // A follow, and a look through all the reach, may be under way when nothing is left.
    const { joined, read } = tried(1 << 16);
    expect(joined).toBeNull();
    expect(read).toBeLessThan((1 << 16) + 4 * disk.length);
    expect(tried(1 << 29).joined).not.toBeNull();
  });
});

/** Beginnings and ends of files by the hundred, each promising what is not there. */
const HOSTILE: Readonly<Record<string, () => Buffer>> = {
  "compound files with a hundred tables": () => {
    const head = Buffer.alloc(512);
    head.write("d0cf11e0a1b11ae1", 0, "hex");
    head.writeUInt16LE(3, 26);
    head.writeUInt16LE(0xfffe, 28);
    head.writeUInt16LE(9, 30);
    head.writeUInt32LE(109, 44);
    for (let i = 0; i < 109; i += 1) head.writeUInt32LE(i * 128 + 1, 76 + i * 4);
    return Buffer.concat(Array.from({ length: 60 }, (_, i) => Buffer.concat([head, randomBytesOf(i, 3584)])));
  },
  "documents whose every line names a table": () => {
    const head = Buffer.from("%PDF-1.4\n1 0 obj\n<< /Length 4000 /Filter /FlateDecode >>\nstream\n");
    const lines = Buffer.from("9 0 obj << \nstartxref\n7\n%%EOF\n".repeat(4000));
    return Buffer.concat([head, randomBytesOf(1, 8192 - head.length), lines, lines]);
  },
  "archives whose every end names a list": () => {
    const end = Buffer.alloc(22);
    end.writeUInt32LE(0x06054b50, 0);
    end.writeUInt32LE(60, 12);
    const head = Buffer.concat([
      Buffer.from("504b0304140000000800", "hex"),
      Buffer.alloc(16, 9),
      Buffer.from("05000000", "hex"),
      Buffer.from("a.txt"),
    ]);
    return Buffer.concat([head, randomBytesOf(2, 4096 - head.length), Buffer.concat(Array.from({ length: 30_000 }, () => end))]);
  },
  "pictures that break off at once": () => {
    const picture = contentOf(files.find(({ kind, state }) => kind === "photo" && state === "contiguous") as PlacedFile);
    return Buffer.concat(Array.from({ length: 10 }, (_, i) => Buffer.concat([picture.subarray(0, 4096), randomBytesOf(i, 4096)])));
  },
};

describe("beginnings and ends that promise what is not there", () => {
  it.each(Object.keys(HOSTILE))("are passed by, with all that is given inside the disk: %s", { tags: "long" }, (name) => {
    const disk = (HOSTILE[name] as () => Buffer)();
    const plan = {
      domain: new Domain([{ start: 0, end: disk.length }]),
      options: { everyByte: false, formats: null },
      grid: { cluster: CLUSTER, origin: 0 },
      effort: USUAL,
    };
    const finds = [...sweep(new MemorySource(disk), plan)].flatMap((batch) => batch.finds);
    for (const { segments, size, extent } of finds) {
      expect(segments.reduce((sum, { length }) => sum + length, 0)).toBe(size);
      for (const { at, length } of segments) expect(at >= 0 && at + length <= disk.length).toBe(true);
      if (segments.length > 1) expect(extent.verdict.verdict).not.toBe("damaged");
    }
  });
});

describe("what little packed data hold very much of", () => {
  it("is charged: an archive that unpacks to gigabytes is not unpacked for every place its pieces may have", { tags: "long" }, () => {
    const [plain, allowed] = [1 << 25, 1 << 24];
    const archive = Buffer.from(
      zipSync({ "zeros.bin": [new Uint8Array(plain), { level: 9 }], "more.bin": [randomBytesOf(4, 60_000), { level: 0 }] }),
    );
    const cut = 20 * CLUSTER;
    const disk = Buffer.concat([
      archive.subarray(0, cut),
      randomBytesOf(6, 400 * CLUSTER),
      archive.subarray(cut),
      randomBytesOf(7, 200 * CLUSTER),
    ]);
    // A cluster of the second piece is another one's: nothing will ever fit.
    disk.set(randomBytesOf(8, CLUSTER), cut + 406 * CLUSTER);
    const find = openFind(disk, 0, "zip");
    const room: PieceRoom = {
      disk: new Allowance(new MemorySource(disk), allowed),
      effort: USUAL,
      cluster: CLUSTER,
      origin: 0,
      limitOf: () => disk.length,
      freeFrom: (_, length) => length,
      beginsIn: () => false,
    };
    const before = unpacked.bytes;
    expect(joinPieces(room, find)).toBeNull();
    // A quarter of what is unpacked counts as read; the last try may have been under way.
    expect(unpacked.bytes - before).toBeLessThan(4 * allowed + 3 * plain);
  });
});
