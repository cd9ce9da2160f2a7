import { createCipheriv } from "node:crypto";
import { beforeAll, describe, expect, it } from "vitest";
import { photograph } from "../../demo/draw";
import { carveImage, type PlacedFile, sha256 } from "../../tests/support/lab-files";
import { fixture } from "../../tests/support/volume-truth";
import { type ByteSource, MemorySource } from "../bytes/byte-source";
import type { Checkpoint } from "../bytes/checkpoint";
import { without } from "../bytes/range-set";
import { FORMATS } from "../formats/registry";
import { Domain } from "./domain";
import { type Find, isProven } from "./find";
import { findName } from "./find-name";
import { planSweep } from "./plan-sweep";
import { sweep, sweptUpTo, UNIT } from "./sweep";
import type { SweepOptions } from "./unit";

const { bytes, source, files, embedded } = carveImage();

function all(
  options: Partial<SweepOptions> = {},
  range = { start: 0, end: source.size },
  disk: ByteSource = source,
  from: Checkpoint | null = null,
): Find[] {
  const plan = planSweep({ range, unusedOnly: false, skip: [], everyByte: false, formats: null, ...options }, null);
  return [...sweep(disk, plan, from)].flatMap((batch) => batch.finds);
}

const contentOf = ({ segments }: Find) => Buffer.concat(segments.map(({ at, length }) => bytes.subarray(at, at + length)));
const contiguous = files.filter(({ state }) => state.startsWith("contiguous"));
const inPieces = files.filter(({ state }) => state.startsWith("fragmented"));
/** Formats of which the issue of two pieces is put together. */
const PIECED_KINDS = ["photo", "jpeg", "png", "zip", "docx", "xlsx", "odt", "pdf"];

/**
 * Truth: the image's own manifest (files of general tools at known places: whole, in two pieces, cut off, without a beginning), not
 * written with the project's code.
 */
describe("the sweep of an image without a file system", () => {
  let aligned: Find[] = [];
  let every: Find[] = [];
  let found: Map<string, Find>;
  beforeAll(() => {
    aligned = all();
    every = all({ everyByte: true });
    found = new Map(every.map((find) => [sha256(contentOf(find)), find]));
  }, 120_000);

  const exact = (wanted: readonly PlacedFile[]) => wanted.filter(({ sha256: hash }) => found.has(hash));

  it("brings up contiguous files byte for byte, those at odd places too", () => {
    expect(contiguous.length).toBeGreaterThan(70);
    expect(exact(contiguous).length / contiguous.length).toBeGreaterThanOrEqual(0.98);
    const atSectors = contiguous.filter(({ firstOffset }) => (firstOffset ?? 0) % 512 === 0);
    const hashes = new Set(aligned.map((find) => sha256(contentOf(find))));
    expect(atSectors.filter(({ sha256: hash }) => hashes.has(hash)).length / atSectors.length).toBeGreaterThanOrEqual(0.98);
  });

  it("says what it has in hand long before it can give it out; what is proven then comes out, or belongs to what was put together", () => {
    const range = { start: 0, end: source.size };
    const batches = [...sweep(source, planSweep({ range, unusedOnly: false, skip: [], everyByte: true, formats: null }, null))].filter(
      ({ joining }) => !joining,
    );
    const first = batches.find(({ sighted }) => sighted.length > 0);
    expect(first?.done).toBeLessThanOrEqual(8 << 20);
    expect(batches.at(-1)?.sighted).toEqual([]);
    const given = new Set(every.map((find) => sha256(contentOf(find))));
    const pieces = every.flatMap(({ segments }) => (segments.length > 1 ? segments : []));
    const proven = batches.flatMap(({ sighted }) => sighted).filter(isProven);
    expect(proven.length).toBeGreaterThan(50);
    const gone = proven.filter((find) => !given.has(sha256(contentOf(find))));
    expect(gone.filter(({ at }) => !pieces.some((piece) => at >= piece.at && at < piece.at + piece.length))).toEqual([]);
    // In hand or given out: nothing is reported twice.
    const out = new Set<number>();
    for (const { finds, sighted } of batches) {
      for (const { at } of finds) out.add(at);
      expect(sighted.filter(({ at }) => out.has(at))).toEqual([]);
    }
  });

  it("that is ended early gives out what it has in hand, each once, and what it says is done is done", () => {
    const range = { start: 0, end: source.size };
    const plan = planSweep({ range, unusedOnly: false, skip: [], everyByte: true, formats: null }, null);
    const batches = [...sweep(source, plan, null, undefined, (done) => done > 3 * UNIT)];
    const finds = batches.flatMap((batch) => batch.finds);
    const last = batches.at(-1);
    expect([last?.done, sweptUpTo(last?.resume ?? null), last?.sighted]).toEqual([4 * UNIT, 4 * UNIT, []]);
    expect(new Set(finds.map(({ at }) => at)).size).toBe(finds.length);
    expect(finds.every(({ at }) => at < 4 * UNIT)).toBe(true);
    // What is proven in that part is what the whole sweep finds there too, but for what belongs to something further on.
    const whole = every.filter((find) => isProven(find) && find.at + find.size <= 4 * UNIT).map((find) => sha256(contentOf(find)));
    const early = new Set(finds.map((find) => sha256(contentOf(find))));
    expect(whole.filter((hash) => early.has(hash)).length / whole.length).toBeGreaterThan(0.95);
  });

  it("puts files of two pieces together, whichever of them lies first", () => {
    const wanted = inPieces.filter(({ kind }) => PIECED_KINDS.includes(kind));
    expect(wanted.length).toBeGreaterThanOrEqual(5);
    expect(exact(wanted).length / wanted.length).toBeGreaterThanOrEqual(0.8);
    const reversed = found.get(inPieces.find(({ path, state }) => path.endsWith(".JPG") && state === "fragmented-reversed")?.sha256 ?? "");
    expect(reversed?.segments).toHaveLength(2);
    expect(reversed?.segments[0]?.at).toBeGreaterThan(reversed?.segments[1]?.at ?? Number.NaN);
  });

  it("calls no file whole that is not", () => {
    const known = new Set([...files, ...embedded].map(({ sha256: hash }) => hash));
    // What stands in another file unpacked is whole in itself, whether the manifest lists it or not.
    const whole = every.filter((find) => isProven(find) && find.inside === null);
    expect(whole.length).toBeGreaterThan(40);
    expect(whole.filter((find) => !known.has(sha256(contentOf(find)))).map((find) => `${find.format.id} at ${find.at}`)).toEqual([]);
    for (const { state, firstOffset } of files) {
      if (!state.startsWith("truncated")) continue;
      const cut = every.find(({ at }) => at === firstOffset);
      expect(cut && isProven(cut)).toBeFalsy();
    }
  });

  it("reports hardly anything that is no file", () => {
    const starts = new Set([...files, ...embedded].map(({ firstOffset }) => firstOffset));
    const alone = every.filter(({ inside }) => inside === null);
    const wrong = alone.filter(({ at }) => !starts.has(at));
    expect(wrong.length / alone.length).toBeLessThanOrEqual(0.05);
  });

  it("ties small pictures and what archives hold to the files they stand in", () => {
    for (const { path, firstOffset, inside } of embedded) {
      if (!/thumbnail|grey\.jpg|office-picture/.test(path) || firstOffset === null) continue;
      const parent = files.find((file) => file.path === inside);
      const find = every.find(({ at }) => at === firstOffset);
      if (parent?.state.startsWith("contiguous") || parent?.state.startsWith("fragmented-split"))
        expect(find?.inside, path).toBe(parent.firstOffset);
    }
  });

  it("gives useful names: titles, dates and cameras, first words", () => {
    const named = (path: string) => {
      const find = every.find(({ at }) => at === files.find((file) => file.path === path)?.firstOffset);
      return find && findName(find);
    };
    expect(named("LMR_0229.JPG")).toBe("2020-07-15 14-18-54 Lumora LX-7 Field.jpg");
    expect(named("lo-report.pdf")).toBe("Report Port Veyra.pdf");
    expect(named("saved page.html")).toBe("Kaltenmoor.html");
    expect(named("report.docx")).toMatch(/^Report Port Veyra .*\.docx$/);
  });

  it("keeps to the kinds that are asked for", () => {
    const pictures = all({ formats: ["jpeg", "png"] });
    expect(new Set(pictures.map(({ format }) => format.id))).toEqual(new Set(["jpeg", "png"]));
    expect(pictures.filter(({ inside }) => inside === null).length).toBeGreaterThan(8);
    expect(all({ formats: ["docx"] }).some(({ format }) => format.id === "docx")).toBe(true);
  });

  it("keeps to the range, and finds there what the whole finds there", () => {
    const start = Math.floor(source.size / 4);
    const end = Math.floor(source.size / 2);
    const part = all({}, { start, end });
    expect(part.length).toBeGreaterThan(10);
    for (const find of part) {
      expect(find.at).toBeGreaterThanOrEqual(start);
      for (const { at, length } of find.segments) expect(at + length).toBeLessThanOrEqual(end);
    }
    const inner = aligned.filter((find) => find.at >= start + (1 << 22) && find.at + find.size < end - (1 << 22));
    expect(part.filter((find) => find.at >= start + (1 << 22) && find.at + find.size < end - (1 << 22)).map(({ at }) => at)).toEqual(
      inner.map(({ at }) => at),
    );
  });

  it("gives the same when it goes on from any of its resume points", () => {
    const plan = planSweep({ range: { start: 0, end: source.size }, unusedOnly: false, skip: [], everyByte: false, formats: null }, null);
    const before: Find[] = [];
    const points: { resume: Checkpoint; given: number }[] = [];
    const midst: typeof points = [];
    for (const batch of sweep(source, plan)) {
      before.push(...batch.finds);
      (batch.joining ? midst : points).push({ resume: batch.resume, given: before.length });
    }
    const key = (find: Find) => `${find.at} ${find.format.id} ${find.size} ${find.inside}`;
    // Two of those while pieces are looked for: nothing is lost by them either.
    expect(midst.length).toBeGreaterThan(10);
    const some = [...points.filter((_, index) => index % 3 === 1), ...midst.filter((_, index) => index % 40 === 7).slice(0, 2)];
    for (const { resume, given } of some) {
      const after = [...sweep(source, plan, resume)].flatMap((batch) => batch.finds);
      expect([...before.slice(0, given), ...after].map(key)).toEqual(before.map(key));
    }
  }, 180_000);
});

describe("while pieces are looked for", () => {
  it("a sweep says of how many files, brings no finds by that, and comes to all of them", () => {
    const plan = planSweep({ range: { start: 0, end: source.size }, unusedOnly: false, skip: [], everyByte: false, formats: null }, null);
    const steps = [...sweep(source, plan)].filter(({ joining }) => joining !== undefined);
    expect(steps.length).toBeGreaterThan(10);
    for (const { joining, finds, sighted, done, total } of steps) {
      expect(finds).toEqual([]);
      expect(joining?.done).toBeLessThan(joining?.all ?? 0);
      expect(sighted.length).toBeGreaterThan(0);
      expect(done).toBeLessThanOrEqual(total);
    }
    // It counts on from none, file by file, each time.
    steps.forEach(({ joining }, index) => {
      const before = steps[index - 1]?.joining;
      expect([0, (before?.done ?? -1) + 1]).toContain(joining?.done);
    });
  });
});

describe("what is swept", () => {
  it("leaves out what is in use and what was swept before", () => {
    expect(
      without({ start: 0, end: 100 }, [
        { start: 10, end: 20 },
        { start: 90, end: 200 },
      ]),
    ).toEqual([
      { start: 0, end: 10 },
      { start: 20, end: 90 },
    ]);
    const domain = new Domain([
      { start: 0, end: 10 },
      { start: 20, end: 90 },
    ]);
    expect([domain.total, domain.before(30), domain.limitOf(5), domain.limitOf(15), domain.limitOf(89)]).toEqual([80, 20, 10, 15, 90]);
    expect([...domain.units(25, 32)]).toEqual([
      { start: 25, end: 32 },
      { start: 32, end: 64 },
      { start: 64, end: 90 },
    ]);
    const plan = planSweep(
      {
        range: { start: 0, end: source.size },
        unusedOnly: false,
        skip: [{ start: 0, end: source.size / 2 }],
        everyByte: false,
        formats: null,
      },
      null,
    );
    expect(plan.domain.ranges).toEqual([{ start: source.size / 2, end: source.size }]);
    expect(plan.grid).toBeNull();
  });

  it("finds next to nothing in packed data, though marks of every kind stand in them by chance", () => {
    const disk = createCipheriv("aes-128-ctr", Buffer.alloc(16, 9), Buffer.alloc(16)).update(Buffer.alloc(1 << 24));
    const marks = FORMATS.flatMap((format) => (format.signatures ?? []).filter(({ at, mark }) => at < 4096 && mark.length <= 6));
    let planted = 0;
    for (let at = 1001; at < disk.length - 8192; at += 17_011, planted += 1) {
      const { at: back, mark } = marks[planted % marks.length] as (typeof marks)[number];
      disk.set(Buffer.from(mark, "latin1"), at + back);
    }
    expect(planted).toBeGreaterThan(900);
    const finds = all({ everyByte: true }, { start: 0, end: disk.length }, new MemorySource(disk));
    expect(finds.length).toBeLessThanOrEqual(planted / 300);
    expect(finds.filter(isProven)).toEqual([]);
  });

  it("takes a longer sound file with all that seems to begin in it for one, its cover too", () => {
    // Made by ffmpeg (make-sounds.ts): where the cover stands in them is where its bytes are.
    const { sounds, cover } = JSON.parse(fixture("sounds.json.gz").toString()) as {
      sounds: { id: string; content: string }[];
      cover: string;
    };
    const picture = Buffer.from(cover, "base64");
    for (const { id, content } of sounds) {
      const sound = Buffer.from(content, "base64");
      for (const lead of [0, 4096, 777]) {
        const drive = new MemorySource(Buffer.concat([Buffer.alloc(lead), sound, Buffer.alloc(8192)]));
        const finds = all({ everyByte: true }, { start: 0, end: drive.size }, drive);
        const [first, ...others] = finds.filter((find) => find.inside === null);
        expect([first?.format.id, first?.at, first?.size, others], `${id} at ${lead}`).toEqual([id, lead, sound.length, []]);
        // In a film's container the cover is reported as what it is: a picture inside.
        const inside = finds.filter((find) => find.inside !== null);
        expect(inside.map((find) => [find.format.id, find.at - lead, find.size, find.inside])).toEqual(
          id === "m4a" ? [["jpeg", sound.indexOf(picture), picture.length, lead]] : [],
        );
      }
    }
    // Sound that holds what other files begin with, and nothing of them behind it.
    const samples = Buffer.alloc(200_000, 0x11);
    for (const [i, mark] of [
      "OggS",
      "ID3\u0003",
      "%PDF-1.4",
      "PK\u0003\u0004",
      "\u00ff\u00d8\u00ff\u00e0",
      "RIFF",
      "BM6",
      "GIF89a",
      "fLaC",
    ].entries())
      samples.write(mark, 4096 + i * 16_384, "latin1");
    const head = Buffer.from("RIFF....WAVEfmt \u0010\0\0\0\u0001\0\u0001\0@\u001f\0\0@\u001f\0\0\u0001\0\b\0data....", "latin1");
    head.writeUInt32LE(36 + samples.length, 4);
    head.writeUInt32LE(samples.length, 40);
    const wave = new MemorySource(Buffer.concat([head, samples, Buffer.alloc(4096)]));
    for (const everyByte of [false, true])
      expect(all({ everyByte }, { start: 0, end: wave.size }, wave).map((find) => [find.format.id, find.at, find.size])).toEqual([
        ["wav", 0, head.length + samples.length],
      ]);
  });

  it("does not take zeros behind a picture that was cut for its data", async () => {
    const picture = await photograph("trails", 319, 1000, 667, 62);
    const disk = new Uint8Array(1 << 20);
    for (const share of [0.3, 0.62, 0.9]) {
      const cut = Math.floor(picture.length * share);
      disk.fill(0);
      disk.set(picture.subarray(0, cut), 4096);
      const [find] = all({}, { start: 0, end: disk.length }, new MemorySource(disk));
      expect(find?.at).toBe(4096);
      expect((find?.size ?? 0) - cut).toBeGreaterThanOrEqual(-16);
      expect((find?.size ?? 0) - cut).toBeLessThanOrEqual(512);
      expect(find?.extent.verdict.verdict).toBe("damaged");
      expect((find?.size ?? 0) / (find?.extent.expected ?? 1)).toBeCloseTo(share, 1);
    }
  });

  it("is drawn with a few hundred stretches, however many there are", () => {
    const many = new Domain(Array.from({ length: 100_000 }, (_, i) => ({ start: i * 1000, end: i * 1000 + 900 })));
    expect(many.drawn()).toEqual([{ start: 0, end: 99_999_900 }]);
    const apart = Array.from({ length: 400 }, (_, i) => ({ start: i * 1_000_000, end: i * 1_000_000 + 10 }));
    expect(new Domain(apart).drawn()).toEqual(apart);
    expect(new Domain([]).drawn()).toEqual([]);
  });

  it("reports stretches that cannot be read and goes on behind them", () => {
    const first = contiguous.find(({ kind }) => kind === "png") as PlacedFile;
    const unreadable = { start: first.firstOffset as number, end: (first.firstOffset as number) + 4096 };
    const hurt = new MemorySource(bytes.subarray(0, 1 << 26), [unreadable]);
    const finds = all({ formats: ["png", "jpeg"] }, undefined, hurt);
    expect(finds.some(({ at }) => at === first.firstOffset)).toBe(false);
    expect(finds.length).toBeGreaterThan(8);
  });
});
