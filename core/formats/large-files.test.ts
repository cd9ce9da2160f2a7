import { describe, expect, it } from "vitest";
import { holes } from "../../tests/support/holes";
import { fixture } from "../../tests/support/volume-truth";
import { BlockReader } from "../bytes/block-reader";
import { MemorySource } from "../bytes/byte-source";
import { boxesIn } from "./iso-media/boxes";
import { formatById, identify, runFollow } from "./registry";

const GIB = 1024 ** 3;
/** What stands behind each file: the next one, or anything else. */
const BEHIND = 3 * 2 ** 20;

/** Follows a file whose parts stand in a source of zeros. @returns its length, its verdict, and how many bytes were read for it */
function followed(id: string, length: number, pieces: readonly [at: number, bytes: Uint8Array][]) {
  const source = holes(length + BEHIND, pieces);
  const format = formatById.get(id);
  const extent = format && runFollow(format, source);
  return { size: extent?.size, verdict: extent?.verdict.verdict, closed: extent?.closed, read: source.counted() };
}

const text = (letters: string) => Buffer.from(letters, "latin1");
const numbers = (...all: [value: number, bytes: 2 | 4 | 8, big?: boolean][]) =>
  Buffer.concat(
    all.map(([value, bytes, big]) => {
      const out = Buffer.alloc(bytes);
      if (bytes === 8) big ? out.writeBigUInt64BE(BigInt(value)) : out.writeBigUInt64LE(BigInt(value));
      else if (bytes === 4) big ? out.writeUInt32BE(value) : out.writeUInt32LE(value);
      else big ? out.writeUInt16BE(value) : out.writeUInt16LE(value);
      return out;
    }),
  );

describe("files of more than 4 GiB", () => {
  it("sound is as long as its own 64-bit sizes say (EBU Tech 3306, RF64)", () => {
    // The first bytes of a file of the same settings by ffmpeg 5.1 (`-rf64 always`), with the sizes of a longer one.
    const data = 6 * GIB + 2;
    const head = Buffer.concat([
      text("RF64"),
      numbers([0xffff_ffff, 4]),
      text("WAVEds64"),
      numbers([28, 4], [0x70 - 8 + data, 8], [data, 8], [data / 2, 8], [0, 4]),
      text("fmt "),
      numbers([16, 4], [1, 2], [1, 2], [8000, 4], [16_000, 4], [2, 2], [16, 2]),
      text("LIST"),
      numbers([0x1a, 4]),
      text("INFOISFT"),
      numbers([0x0e, 4]),
      text("Lavf59.27.100\0data"),
      numbers([0xffff_ffff, 4]),
    ]);
    expect(head.length).toBe(0x72);
    const length = head.length + data;
    head.writeBigUInt64LE(BigInt(length - 8), 20);
    expect(identify(new MemorySource(head))?.id).toBe("wav");
    const found = followed("wav", length, [[0, head]]);
    expect(found).toMatchObject({ size: length, closed: true });
    expect(found.read).toBeLessThan(8 << 20);
  });

  it("a film in several RIFF chunks ends with the last of them (OpenDML AVI file format extensions)", () => {
    const chunk = (form: string, size: number) => Buffer.concat([text("RIFF"), numbers([size, 4]), text(form)]);
    const list = (size: number) => Buffer.concat([text("LIST"), numbers([size, 4]), text("movi")]);
    const junk = (size: number) => Buffer.concat([text("JUNK"), numbers([size, 4])]);
    const each = 2 * GIB - 64;
    const pieces: [number, Buffer][] = [];
    let at = 0;
    for (const form of ["AVI ", "AVIX", "AVIX"]) {
      pieces.push([at, Buffer.concat([chunk(form, each), list(each - 12), junk(each - 24)])]);
      at += 8 + each;
    }
    const found = followed("avi", at, pieces);
    expect(found).toMatchObject({ size: at, closed: true });
    expect(at).toBeGreaterThan(5 * GIB);
    // With the last chunk's beginning gone it ends with the one before.
    expect(followed("avi", at, pieces.slice(0, 2)).size).toBe(2 * (8 + each));
  });

  it("a recording whose data have a 64-bit size ends with the index behind them (ISO/IEC 14496-12, 4.2)", () => {
    const { films } = JSON.parse(fixture("films.json.gz").toString()) as { films: { film: string }[] };
    const film = Buffer.from(films[0]?.film ?? "", "base64");
    const boxes = [...boxesIn(new BlockReader(new MemorySource(film)), 0, film.length)];
    const [data, index] = ["mdat", "moov"].map((type) => boxes.find((box) => box.type === type));
    if (!data || !index) throw new Error("no recording");
    // Its data stand where the index says they do; behind them the box goes on for 7 GiB.
    const length = 7 * GIB;
    const head = Buffer.concat([film.subarray(0, data.at - 8), numbers([1, 4, true]), text("mdat"), numbers([length, 8, true])]);
    const begins = data.at - 8;
    const between = boxes.find((box) => box.end === data.at);
    // ffmpeg leaves a box of 8 bytes before the data, so that their size can become a long one.
    expect([between?.type, between && between.end - between.at]).toEqual(["free", 8]);
    const pieces: [number, Uint8Array][] = [
      [0, Buffer.concat([head, film.subarray(data.content, data.end)])],
      [begins + length, film.subarray(index.at, index.end)],
    ];
    const end = begins + length + (index.end - index.at);
    const found = followed("mp4", end, pieces);
    expect(found).toMatchObject({ size: end, closed: true, verdict: "sound" });
    expect(found.read).toBeLessThan(64 << 20);
  });

  it("an archive's member of more than 8 GiB has its size in binary (POSIX.1-1988 ustar as GNU tar extends it)", () => {
    // The header as Python 3.11's tarfile writes it for 9 GiB and 5 bytes.
    const head = Buffer.alloc(512);
    Buffer.from(
      "bmlnaHQgbG9nLnJhdwAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAADAwMDA2NDQAMDAwMDAwMAAwMDAwMDAwAIAAAAAAAAACQAAABTE1MTU0NDY0NDQwADAwNzYxNgAgMAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAB1c3RhciAg",
      "base64",
    ).copy(head);
    const content = 9 * GIB + 5;
    const member = 512 + Math.ceil(content / 512) * 512;
    const found = followed("tar", member + 1024, [[0, head]]);
    expect(found.size).toBeGreaterThanOrEqual(member + 1024);
    // Archives are filled up to whole records of 20 blocks (POSIX.1-1988): zeros behind the end may belong to it.
    expect((found.size ?? 0) - member).toBeLessThanOrEqual(10_240);
    expect(found.read).toBeLessThan(8 << 20);
  });

  it("an archive with its list of contents beyond 4 GiB is as long as that says (APPNOTE 6.3.10, 4.3.14 to 4.3.16)", () => {
    const content = 5 * GIB;
    const name = text("night.raw");
    const extra = (...sizes: number[]) =>
      Buffer.concat([numbers([1, 2], [8 * sizes.length, 2]), ...sizes.map((size) => numbers([size, 8]))]);
    // Stored, with the CRC of so many zeros left out: a descriptor behind the data has it (4.3.9).
    const local = Buffer.concat([
      numbers(
        [0x04034b50, 4],
        [45, 2],
        [0, 2],
        [0, 2],
        [0, 2],
        [0x5c6d, 2],
        [0, 4],
        [0xffff_ffff, 4],
        [0xffff_ffff, 4],
        [name.length, 2],
        [20, 2],
      ),
      name,
      extra(content, content),
    ]);
    const listAt = local.length + content;
    const central = Buffer.concat([
      numbers([0x02014b50, 4], [45, 2], [45, 2], [0, 2], [0, 2], [0, 2], [0x5c6d, 2], [0, 4], [0xffff_ffff, 4], [0xffff_ffff, 4]),
      numbers([name.length, 2], [20, 2], [0, 2], [0, 2], [0, 2], [0, 4], [0, 4]),
      name,
      extra(content, content),
    ]);
    const endAt = listAt + central.length;
    const end = Buffer.concat([
      numbers([0x06064b50, 4], [44, 8], [45, 2], [45, 2], [0, 4], [0, 4], [1, 8], [1, 8], [central.length, 8], [listAt, 8]),
      numbers([0x07064b50, 4], [0, 4], [endAt, 8], [1, 4]),
      numbers([0x06054b50, 4], [0, 2], [0, 2], [1, 2], [1, 2], [central.length, 4], [0xffff_ffff, 4], [0, 2]),
    ]);
    const length = endAt + end.length;
    const found = followed("zip", length, [
      [0, local],
      [listAt, Buffer.concat([central, end])],
    ]);
    expect(found.size).toBe(length);
    // Its member is not what its checksum says, and that is found, or left open because it is too much to read.
    expect(found.verdict).not.toBe("sound");
  }, 60_000);
});
