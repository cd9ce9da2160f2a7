import { readFileSync } from "node:fs";
import { join } from "node:path";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { readSettings, type Setting, type SettingsForm } from "./settings";

/** Truth: what Python wrote, and what it holds (`tests/fixtures/make-settings.py`). */
type Plain = string | number | boolean | { date: string } | { bytes: number } | { map: [string, Plain][] } | { list: Plain[] };
const truth = JSON.parse(readFileSync(join(import.meta.dirname, "..", "..", "tests", "fixtures", "settings.json"), "utf8")) as {
  binary: string;
  xml: string;
  ini: string;
  settings: { map: [string, Plain][] };
  sections: [string, [string, string][]][];
};
/** The present of these tests, in seconds since 1970. */
const NOW = Date.UTC(2026, 2, 12) / 1000;

const read = (form: SettingsForm, text: string | Uint8Array) => {
  const bytes = Buffer.from(text);
  return readSettings(form, bytes, bytes.toString(), NOW);
};

/** What Python holds, a line each as it is to be shown. */
function linesOf(name: string, value: Plain, level: number): [string, string | null, number][] {
  if (typeof value !== "object") return [[name, String(value), level]];
  if ("date" in value) return [[name, value.date, level]];
  if ("bytes" in value) return [[name, `${value.bytes} bytes`, level]];
  if ("map" in value) return [[name, null, level], ...value.map.flatMap(([each, held]) => linesOf(each, held, level + 1))];
  return [[name, `${value.list.length} values`, level], ...value.list.flatMap((held, i) => linesOf(String(i + 1), held, level + 1))];
}
const shown = (settings: readonly Setting[] = []) => settings.map(({ name, value, level }) => [name, value, level]);
const wanted = truth.settings.map.flatMap(([name, value]) => linesOf(name, value, 0));

describe("settings as names and values", () => {
  it("of property lists, binary and XML, are those that were written", () => {
    expect(shown(read("plist", Buffer.from(truth.binary, "base64"))?.settings)).toEqual(wanted);
    expect(shown(read("plist", truth.xml)?.settings)).toEqual(wanted);
  });

  it("of sections with a name and a value a line are those that were written", () => {
    const lines = truth.sections.flatMap(([section, all]) => [[section, null, 0], ...all.map(([name, value]) => [name, value, 1])]);
    expect(shown(read("ini", truth.ini)?.settings)).toEqual(lines);
    expect(shown(read("ini", "; a remark\n# another\nname only\nkey: value")?.settings)).toEqual([
      ["name only", "", 0],
      ["key", "value", 0],
    ]);
  });

  it("of JSON and XML keep what holds what", () => {
    expect(shown(read("json", '\ufeff{"a":{"b":[1,null]},"__proto__":"x"}')?.settings)).toEqual([
      ["a", null, 0],
      ["b", "2 values", 1],
      ["1", "1", 2],
      ["2", "null", 2],
      ["__proto__", "x", 0],
    ]);
    expect(shown(read("xml", '<s:set version="2"><item key="a &amp; b"> one </item><none/></s:set>')?.settings)).toEqual([
      ["set", null, 0],
      ["version", "2", 1],
      ["item", "one", 1],
      ["key", "a & b", 2],
      ["none", null, 1],
    ]);
  });

  it("have their moments recognised, where the name says that it is one and only one way of counting fits", () => {
    const moments = (text: string) => read("json", text)?.settings.map(({ when }) => when && `${when.at}, ${when.how}`);
    // ECMA-262, 21.4.1 (the calendar); the beginning of 2001 is 978,307,200 seconds behind that of 1970.
    // It would be in the future.
    expect(moments('{"lastOpened":795182400}')).toEqual([null]);
    expect(moments('{"lastOpened":795000000}')).toEqual(["2026-03-12 09:20:00, seconds since 2001"]);
    expect(moments('{"created":1773265205}')).toEqual(["2026-03-11 21:40:05, seconds since 1970"]);
    expect(moments('{"expires":"1773265205123"}')).toEqual(["2026-03-11 21:40:05, milliseconds since 1970"]);
    expect(moments('{"width":1773265205}')).toEqual([null]);
    expect(moments('{"anything":"2026-03-11T21:40:05Z"}')).toEqual(["2026-03-11 21:40:05, as it is written"]);
    expect(moments('{"time":17}')).toEqual([null]);
  });

  it("show numbers as they are written, also those that are too large to be computed with, and mark what is cut", () => {
    expect(shown(read("json", '{"id":9007199254740993,"list":[-12345678901234567890],"text":"9007199254740993 \\" 1"}')?.settings)).toEqual(
      [
        ["id", "9007199254740993", 0],
        ["list", "1 value", 0],
        ["1", "-12345678901234567890", 1],
        ["text", '9007199254740993 " 1', 0],
      ],
    );
    const [long] = read("json", JSON.stringify({ long: "x".repeat(5000) }))?.settings ?? [];
    expect(long?.value?.length).toBeLessThan(2_010);
    expect(long?.value?.endsWith("…")).toBe(true);
  });

  it("that are damaged are read as far as they stand, or said to be none", () => {
    expect(read("json", "nothing of it")).toBeNull();
    const broken = read("json", '{"a":1,"b":[2,{"c":"\0\0\0');
    expect(shown(broken?.settings)).toEqual([
      ["a", "1", 0],
      ["b", "2 values", 0],
      ["1", "2", 1],
      ["2", null, 1],
      ["c", "damaged", 2],
    ]);
    expect(broken?.problem).toContain("breaks off");
    // What no parser takes is never said to be all right, though every value may stand.
    for (const text of ['{"a":1 "b":2}', '{"a":1}{"b":2}', '{"a":1,}', '{"a":1}\0\0'])
      expect([text, read("json", text)?.problem]).toEqual([text, "It is not written as JSON throughout: something in it may be damaged."]);
    expect(read("ini", "[a]\nb=1\0\0\0\nc=2")?.problem).toContain("some of its lines are damaged");
    expect(read("ini", "[a]\nb=1\nc=2")?.problem).toBeNull();
    expect(read("plist", "bplist00 and nothing else")).toBeNull();
    const cut = read("xml", "<set><a>1</a><b");
    expect(shown(cut?.settings)).toEqual([
      ["set", null, 0],
      ["a", "1", 1],
    ]);
    expect(cut?.problem).not.toBeNull();
    const within = read("xml", "<set><a>1</a><b>2\0\0\0c>3</c><d at='4'>5</d></set>");
    expect(shown(within?.settings)).toEqual([
      ["set", null, 0],
      ["a", "1", 1],
      ["b", null, 1],
      ["d", "5", 2],
      ["at", "4", 3],
    ]);
    expect(within?.problem).not.toBeNull();
  });

  it("of any bytes neither stop nor break the reading, and no more is kept than is shown", () => {
    const form = fc.constantFrom<SettingsForm>("plist", "json", "xml", "ini");
    const damaged = fc.tuple(fc.nat(), fc.nat(255)).map(([at, byte]) => {
      const bytes = Buffer.from(truth.binary, "base64");
      bytes[at % bytes.length] = byte;
      return bytes;
    });
    fc.assert(
      fc.property(
        form,
        fc.oneof(
          fc.uint8Array({ maxLength: 300 }),
          damaged,
          fc.json().map((text) => Buffer.from(text)),
        ),
        (kind, bytes) => {
          const found = readSettings(kind, bytes, Buffer.from(bytes).toString("latin1"), NOW);
          expect(found?.settings.length ?? 0).toBeLessThanOrEqual(5_000);
        },
      ),
      { numRuns: 500 },
    );
    const deep = `${"[".repeat(5000)}1${"]".repeat(5000)}`;
    expect(Math.max(...(read("json", deep)?.settings ?? []).map(({ level }) => level))).toBeLessThanOrEqual(64);
    expect(read("json", JSON.stringify(Array.from({ length: 20_000 }, (_, i) => i)))).toMatchObject({ more: true });
  });
});
