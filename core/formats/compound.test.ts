import CFB from "cfb";
import iconv from "iconv-lite";
import { describe, expect, it } from "vitest";
import { MemorySource } from "../bytes/byte-source";
import { identify, resolved, runFollow, runSummary } from "./registry";

/** A compound file as another library writes it, with these streams. */
function compound(streams: Record<string, Uint8Array>): Buffer {
  const file = CFB.utils.cfb_new();
  for (const [name, bytes] of Object.entries(streams)) CFB.utils.cfb_add(file, `/${name}`, Buffer.from(bytes));
  return Buffer.from(CFB.write(file, { type: "buffer" }) as Buffer);
}

/**
 * A property set stream ([MS-OLEPS], 2.21): one set, its properties as pairs of number and place, then the values.
 * @param codePage of the texts, which are coded by another library
 */
function properties(codePage: number, coding: string, texts: Record<number, string>, saved: number): Buffer {
  const u32 = (...values: number[]) => Buffer.concat(values.map((value) => Buffer.from(Uint32Array.of(value >>> 0).buffer)));
  const values: [number, Buffer][] = [[1, u32(2, codePage)]];
  for (const [id, text] of Object.entries(texts)) {
    const coded = iconv.encode(`${text}\0`, coding);
    values.push([Number(id), Buffer.concat([u32(30, coded.length), coded, Buffer.alloc((4 - (coded.length % 4)) % 4)])]);
  }
  // VT_FILETIME: hundreds of nanoseconds since 1601 ([MS-DTYP], 2.3.3).
  const time = Buffer.alloc(8);
  time.writeBigUInt64LE((BigInt(saved) + 11_644_473_600_000n) * 10_000n);
  values.push([13, Buffer.concat([u32(64), time])], [14, u32(3, 7)]);
  const head = 8 + 8 * values.length;
  let at = head;
  const table = values.map(([id, value]) => {
    const entry = u32(id, at);
    at += value.length;
    return entry;
  });
  const set = Buffer.concat([u32(at, values.length), ...table, ...values.map(([, value]) => value)]);
  return Buffer.concat([Buffer.from([0xfe, 0xff, 0, 0, 6, 1, 2, 0]), Buffer.alloc(16), u32(1), Buffer.alloc(16), u32(48), set]);
}

const idOf = (bytes: Buffer) => {
  const source = new MemorySource(bytes);
  const format = identify(source);
  return format && resolved(format, source).id;
};
const summaryOf = (bytes: Buffer) => {
  const source = new MemorySource(bytes);
  const format = identify(source);
  return format ? runSummary(resolved(format, source), source) : {};
};
const noise = (length: number) => Uint8Array.from({ length }, (_, i) => (i * 167 + (i >> 3)) & 255);

describe("compound files", () => {
  it.each([
    ["doc", { WordDocument: noise(9000), "1Table": noise(5000) }],
    ["xls", { Workbook: noise(12_000) }],
    ["ppt", { "PowerPoint Document": noise(8000), "Current User": noise(60) }],
    ["msg", { "__properties_version1.0": noise(64), "__substg1.0_0037001F": Buffer.from("Opening night", "utf16le") }],
    ["vsd", { VisioDocument: noise(7000) }],
    ["compound", { "Something else": noise(5000) }],
  ])("are distinguished by their streams, and are as long as their tables say: %s", (id, streams) => {
    const bytes = compound(streams);
    expect(idOf(bytes)).toBe(id);
    const source = new MemorySource(Buffer.concat([bytes, noise(4096)]));
    const format = identify(source);
    const extent = format && runFollow(format, source);
    // What another library filled up behind the last sector in use belongs to nothing.
    expect(extent?.size).toBeLessThanOrEqual(bytes.length);
    expect(extent?.size).toBeGreaterThan(bytes.length - 4096);
    expect(extent?.closed).toBe(true);
  });

  it.each([
    [1252, "win1252", "Façade, 3ʳᵈ draft".replace("ʳᵈ", "rd"), "Ana Quillörand"],
    [1251, "win1251", "Ночное небо", "Мария"],
    [1253, "win1253", "Νυχτερινός ουρανός", "Ελένη"],
    [932, "shiftjis", "夜空の記録", "佐藤"],
    [936, "gbk", "夜空日志", "李"],
    [10_000, "macroman", "Café “Étoile”", "Zoë"],
    [28_592, "iso88592", "Noční obloha", "Žofie"],
    [65_001, "utf8", "Night sky ✦", "Ünal"],
    [99_999, "win1252", "Unknown page, Western letters é", "Jo"],
  ])("tell titles and authors in the letters of their code page %d", (codePage, coding, title, author) => {
    const saved = Date.UTC(2026, 2, 12, 21, 30);
    const set = properties(codePage, coding, { 2: title, 4: author }, saved);
    const bytes = compound({ WordDocument: noise(9000), "\u0005SummaryInformation": set });
    expect(summaryOf(bytes)).toEqual({ title, author, dated: saved, pages: 7 });
  });

  it("with properties that lead nowhere give nothing, and never crash", () => {
    const set = properties(1252, "win1252", { 2: "A title", 4: "An author" }, Date.UTC(2026, 0, 1));
    for (let at = 0; at < set.length; at += 1)
      for (const value of [0, 0xff, 0x80]) {
        const hurt = Buffer.from(set);
        hurt[at] = value;
        const summary = summaryOf(compound({ WordDocument: noise(4096), "\u0005SummaryInformation": hurt }));
        for (const words of [summary.title, summary.author]) expect(words === undefined || words.length <= 512).toBe(true);
      }
  });

  it("of mail messages give subject and sender", () => {
    const bytes = compound({
      "__properties_version1.0": noise(64),
      "__substg1.0_0037001F": Buffer.from("Opening night – the dome", "utf16le"),
      "__substg1.0_0C1A001F": Buffer.from("Mørk Himmel", "utf16le"),
    });
    expect(summaryOf(bytes)).toMatchObject({ title: "Opening night – the dome", author: "Mørk Himmel" });
  });
});

/** A record of a workbook ([MS-XLS], 2.1.4) and one of slides ([MS-PPT], 2.3.1). */
const bookRecord = (kind: number, length: number) =>
  Buffer.concat([Buffer.from(Uint16Array.of(kind, length).buffer), Buffer.alloc(length, 7)]);
const slideRecord = (kind: number, content: Buffer, version = 0) => {
  const head = Buffer.alloc(8);
  head.writeUInt16LE(version, 0);
  head.writeUInt16LE(kind, 2);
  head.writeUInt32LE(content.length, 4);
  return Buffer.concat([head, content]);
};
const verdictOf = (streams: Record<string, Uint8Array>) => {
  const bytes = compound(streams);
  const source = new MemorySource(bytes);
  return { verdict: runFollow(resolved(identify(source) as never, source), source)?.verdict, bytes };
};

describe("records of old workbooks and slides", () => {
  const book = Buffer.concat([
    bookRecord(0x809, 16),
    ...Array.from({ length: 300 }, (_, i) => bookRecord(0x203, 14 + (i % 60))),
    bookRecord(10, 0),
  ]);
  const slides = slideRecord(1000, Buffer.concat(Array.from({ length: 80 }, (_, i) => slideRecord(4000, Buffer.alloc(40 + i, 5)))), 15);

  it("that hold together are sound, with nothing but zeros behind the last", () => {
    expect(verdictOf({ Workbook: book }).verdict).toEqual({ verdict: "sound" });
    expect(verdictOf({ Workbook: Buffer.concat([book, Buffer.alloc(900)]) }).verdict).toEqual({ verdict: "sound" });
    expect(verdictOf({ "PowerPoint Document": Buffer.concat([slides, slides]) }).verdict).toEqual({ verdict: "sound" });
  });

  it("that are cut by other bytes are damaged where that shows, and not whole because zeros stand there", () => {
    const at = Math.floor(book.length / 2);
    for (const other of [noise(3000), new Uint8Array(3000)]) {
      const broken = Buffer.concat([book.subarray(0, at), other, book.subarray(at)]);
      const { verdict, bytes } = verdictOf({ Workbook: broken });
      expect(verdict?.verdict).toBe("damaged");
      // The stream lies in one stretch: its place in the file is known by its first bytes.
      const shown = verdict?.verdict === "damaged" ? verdict.at - bytes.indexOf(book.subarray(0, 64)) : 0;
      expect(shown).toBeGreaterThanOrEqual(at - 80);
      expect(shown).toBeLessThan(at + 3000);
    }
    const inside = Buffer.from(slides);
    inside.set(noise(600), 2000);
    expect(verdictOf({ "PowerPoint Document": inside }).verdict?.verdict).toBe("damaged");
  });

  it("that a password protects are not called damaged", () => {
    const user = Buffer.alloc(20);
    user.writeUInt32LE(0xf3d1c4df, 12);
    const streams = { "PowerPoint Document": noise(8000), "Current User": user };
    expect(verdictOf(streams).verdict).toEqual({ verdict: "cannot-tell", reason: "the slides are protected by a password" });
  });
});
