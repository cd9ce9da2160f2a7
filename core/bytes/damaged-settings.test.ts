import { readFileSync } from "node:fs";
import { join } from "node:path";
import { parseBuffer } from "bplist-parser";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { leastTime, SLOWEST_MS } from "../../tests/support/thread-time";
import { DAMAGED, readBinaryList } from "./binary-list";
import { readDamagedJson } from "./damaged-json";
import { readDamagedPropertyList, readPropertyList } from "./property-list";
import { decodeText, encodingOf } from "./text-encoding";

/** Lists that Python wrote (`tests/fixtures/make-settings.py`). */
const made = JSON.parse(readFileSync(join(import.meta.dirname, "..", "..", "tests", "fixtures", "settings.json"), "utf8")) as {
  binary: string;
  xml: string;
};
const binary = Buffer.from(made.binary, "base64");
const xml = Buffer.from(made.xml);

/** Texts and names of a value, wherever they lie in it. */
function textsIn(value: unknown, found: string[] = []): string[] {
  if (typeof value === "string") found.push(value);
  else if (Array.isArray(value)) for (const each of value) textsIn(each, found);
  else if (value && typeof value === "object" && !(value instanceof Uint8Array) && !(value instanceof Date))
    for (const [name, each] of Object.entries(value)) {
      if (!name.startsWith("? ")) found.push(name);
      textsIn(each, found);
    }
  return found;
}
const zeroed = (bytes: Uint8Array, at: number, length: number) => {
  const other = Uint8Array.from(bytes);
  other.fill(0, at, at + length);
  return other;
};
const TEXT = fc.string({ unit: "grapheme", maxLength: 12 });
const values = fc.letrec<{ value: unknown }>((tie) => ({
  value: fc.oneof(
    { maxDepth: 5 },
    TEXT,
    fc.integer(),
    fc.boolean(),
    fc.constant(null),
    fc.array(tie("value"), { maxLength: 4 }),
    fc.dictionary(TEXT, tie("value"), { maxKeys: 4 }),
  ),
}));
const holders = fc.oneof(fc.array(values.value, { minLength: 1, maxLength: 6 }), fc.dictionary(TEXT, values.value, { minKeys: 1 }));

describe("damaged binary property lists", () => {
  const whole = textsIn(readBinaryList(binary)?.value);
  /** A letter of two bytes of which one became zero is another letter: nothing tells that. */
  const isLike = (text: string) =>
    whole.some(
      (each) =>
        each.length === text.length &&
        [...text].every((_, i) => {
          const [was, is] = [each.charCodeAt(i), text.charCodeAt(i)];
          return is === was || is === (was & 0xff) || is === (was & 0xff00);
        }),
    );

  it("that are sound read as another library reads them", () => {
    const plain = (value: unknown): unknown => {
      if (value instanceof Uint8Array) return Buffer.from(value).toString("hex");
      if (Array.isArray(value)) return value.map(plain);
      return value && typeof value === "object" && !(value instanceof Date)
        ? Object.fromEntries(Object.entries(value).map(([name, each]) => [name, plain(each)]))
        : value;
    };
    expect(plain(readBinaryList(binary)?.value)).toEqual(plain((parseBuffer(binary) as unknown[])[0]));
    expect(readBinaryList(binary)?.problem).toBeNull();
  });

  it("without their table and end give everything: objects stand one behind another", () => {
    const tableAt = Number(binary.readBigUInt64BE(binary.length - 8));
    for (let end = tableAt; end < binary.length; end += 1) {
      const read = readBinaryList(binary.subarray(0, end));
      expect([end, textsIn(read?.value).sort()]).toEqual([end, [...whole].sort()]);
      expect(read?.problem).toContain("end is gone");
    }
  });

  it("cut anywhere, or with a stretch of zeros anywhere, give no text that never was, and say that something is wrong where one is gone", () => {
    const tableAt = Number(binary.readBigUInt64BE(binary.length - 8));
    let given = 0;
    for (let at = 8; at < tableAt; at += 1) {
      const cut = readBinaryList(binary.subarray(0, at));
      const gaps = [1, 5, 40].map((length) => readBinaryList(zeroed(binary, at, length)));
      for (const read of [cut, ...gaps]) {
        const texts = textsIn(read?.value);
        given += texts.length;
        expect([at, texts.filter((text) => !whole.includes(text) && !isLike(text))]).toEqual([at, []]);
        if (read && texts.length < whole.length) expect([at, read.problem]).not.toEqual([at, null]);
      }
    }
    // What is left is given, not only called damaged.
    expect(given / (tableAt - 8) / 4).toBeGreaterThan(whole.length * 0.5);
  });

  it("that lead around in circles, or name one object a million times, end", () => {
    const list = (...bytes: number[]) => Buffer.from([...Buffer.from("bplist00"), ...bytes]);
    const trailer = (count: number, tableAt: number) =>
      Buffer.concat([
        Buffer.from([0, 0, 0, 0, 0, 0, 1, 1]),
        ...[count, 0, tableAt].map((n) => Buffer.from(n.toString(16).padStart(16, "0"), "hex")),
      ]);
    const circle = Buffer.concat([list(0xa2, 0, 0, 8), trailer(1, 11)]);
    expect(readBinaryList(circle)).toEqual({ value: [DAMAGED, DAMAGED], problem: "Some of its values are damaged." });
    // Each of 24 lists names the next one eight times.
    const depth = 24;
    const nested = Array.from({ length: depth }, (_, i) => [0xa8, ...new Array<number>(8).fill(i + 1)]).flat();
    const tableAt = 8 + nested.length + 2;
    const offsets = Array.from({ length: depth + 1 }, (_, i) => 8 + i * 9);
    const bomb = Buffer.concat([list(...nested, 0x51, 0x61, ...offsets), trailer(depth + 1, tableAt)]);
    expect(leastTime(() => readPropertyList(bomb)).time).toBeLessThan(SLOWEST_MS);
    expect(readDamagedPropertyList(bomb)?.problem).not.toBeNull();
  });
});

describe("damaged XML property lists", () => {
  const whole = textsIn(readPropertyList(xml));

  it("cut anywhere, or with a stretch of zeros anywhere, give no text that never was, and say so", () => {
    const begin = xml.indexOf("<dict>") + 6;
    let given = 0;
    let looked = 0;
    for (let at = begin; at < xml.length; at += 3) {
      for (const bytes of [xml.subarray(0, at), zeroed(xml, at, 1), zeroed(xml, at, 60)]) {
        const read = readDamagedPropertyList(bytes);
        const texts = textsIn(read?.value);
        looked += 1;
        given += texts.length;
        expect([at, texts.filter((text) => !whole.includes(text))]).toEqual([at, []]);
        if (texts.length < whole.length) expect([at, read?.problem]).not.toEqual([at, null]);
      }
    }
    expect(given / looked).toBeGreaterThan(whole.length * 0.5);
  });

  it("are gone through once, whatever begins again and again in them", () => {
    for (const part of ["<!--", '<a b="', "<a ", "<![CDATA[", "<string>\0", "&#", "<dict><key>", "</a>", `<a${" ".repeat(40)}`]) {
      const bytes = Buffer.from(`<plist>${part.repeat(Math.floor(500_000 / part.length))}`);
      expect([part, leastTime(() => readDamagedPropertyList(bytes)).time < SLOWEST_MS]).toEqual([part, true]);
    }
  });
});

describe("damaged JSON", () => {
  it("that is sound reads as the runtime does (RFC 8259)", () => {
    fc.assert(
      fc.property(holders, fc.constantFrom(undefined, 2), (value, indent) => {
        const text = JSON.stringify(value, null, indent);
        expect(readDamagedJson(text)).toEqual({ value: JSON.parse(text), problem: null });
      }),
      { numRuns: 500 },
    );
  });

  it("cut anywhere, or with a stretch of zeros anywhere, gives no text that never was, and says so", () => {
    fc.assert(
      fc.property(holders, fc.constantFrom(undefined, 2), fc.nat(), fc.integer({ min: 1, max: 30 }), (value, indent, place, length) => {
        const text = JSON.stringify(value, null, indent);
        const whole = new Set(textsIn(value));
        const at = 1 + (place % (text.length - 1));
        for (const damaged of [text.slice(0, at), text.slice(0, at) + "\0".repeat(length) + text.slice(at + length)]) {
          const read = readDamagedJson(damaged);
          // A quote mark within a text, of which the mark before it became zero, begins one: nothing tells that.
          const isEnd = (text: string) => [...whole].some((each) => each.endsWith(`"${text}`));
          expect(textsIn(read?.value).filter((each) => !whole.has(each) && !isEnd(each))).toEqual([]);
          if (read) expect(read.problem).not.toBeNull();
        }
      }),
      { numRuns: 2_000 },
    );
  });

  it("gives what stands before and behind a damaged stretch", () => {
    expect(readDamagedJson('{"a":"x","b":"y\0\0\0d":1,"c":[1,2,{"e":tr')).toEqual({
      value: { a: "x", b: DAMAGED, c: [1, 2, { e: DAMAGED }] },
      problem:
        "A part of it is damaged, or no JSON: what stands behind that may belong elsewhere in it. It breaks off: what stands before that is shown.",
    });
    expect(readDamagedJson("no braces")).toBeNull();
  });

  it("is gone through once, whatever begins again and again in it", () => {
    for (const part of ['"', '{"a":', "[", '"a\0', "\0", '":', '{"', "1", "\\"]) {
      const text = `[${part.repeat(Math.floor(500_000 / part.length))}`;
      expect([part, leastTime(() => readDamagedJson(text)).time < SLOWEST_MS]).toEqual([part, true]);
    }
  });
});

describe("the encoding of a text", () => {
  const words = "[Fenster]\r\nGröße=42\r\nName=Kuppel süd\r\n".repeat(20);

  it("is known without its mark, and where the text is cut within a character or damaged somewhere", () => {
    const swapped = Buffer.from(words, "utf16le").swap16();
    expect(decodeText(Buffer.from(words, "utf16le"))).toBe(words);
    expect(decodeText(swapped)).toBe(words);
    const utf8 = Buffer.from(words);
    const inLetter = utf8.indexOf("ß") + 1;
    expect(encodingOf(utf8.subarray(0, inLetter))).toBe("utf-8");
    expect(encodingOf(Buffer.concat([utf8, Buffer.from([0xfe, 0xff]), utf8]))).toBe("utf-8");
    expect(encodingOf(Buffer.from(words, "latin1"))).toBe("windows-1252");
    expect(encodingOf(Buffer.from([0xfe, 0xff, 0, 65]))).toBe("utf-16be");
    for (const few of ["", "a", "ab\0"]) expect(encodingOf(Buffer.from(few))).toBe("utf-8");
  });
});
