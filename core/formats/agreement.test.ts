import { describe, expect, it } from "vitest";
import { damagedFile, FORMS } from "../../tests/support/file-mutations";
import { fixture } from "../../tests/support/volume-truth";
import { MemorySource } from "../bytes/byte-source";
import { identify, runCheck } from "./registry";

interface Recorded {
  readonly reader: string;
  readonly version: string;
  readonly name: string;
  readonly content: string;
  readonly sound: boolean;
  /** Of each damaged form: "1" where the reader took it without complaint. */
  readonly forms: string;
}

/**
 * What independent readers said of 500 damaged forms of each file (recorded by make-verdicts.ts with their versions). `promised`: the
 * forms we call sound and they do not, `refused`: the forms we call damaged and they do not, both at most so many.
 */
const EXPECTED: Readonly<Record<string, { promised: number; refused: number; why: string }>> = {
  "plain-baseline.jpg": { promised: 0, refused: 0, why: "" },
  "progressive.jpg": { promised: 0, refused: 4, why: "data missing in a last refining pass, which the reader fills up without a word" },
  "restart-markers.jpg": { promised: 0, refused: 0, why: "" },
  "sketch-palette.png": { promised: 0, refused: 0, why: "" },
  "uncompressed.pdf": { promised: 5, refused: 20, why: "damage in parts of the document that the reader does not draw from" },
  "objstreams.pdf": {
    promised: 40,
    refused: 12,
    why: "the words that draw a page, which are coded in letters here: what they mean is not followed; zeros among letters, which the reader passes over",
  },
  "lo-report.pdf": { promised: 4, refused: 260, why: "the reader does not unpack fonts and other parts that no page draws from directly" },
  "good.zip": { promised: 3, refused: 0, why: "a version or an attribute in a header that we do not weigh" },
  "good-descriptors.zip": { promised: 2, refused: 2, why: "as above" },
  "report.docx": { promised: 3, refused: 3, why: "as above" },
  "log.gz": { promised: 0, refused: 0, why: "" },
  "log.bz2": { promised: 0, refused: 0, why: "" },
  "log.xz": { promised: 1, refused: 0, why: "a cut within the filling behind the last stream" },
  "catalog.db": { promised: 15, refused: 0, why: "an index whose entries are not compared with the rows" },
  "moov-at-end.mp4": { promised: 230, refused: 8, why: "the reader decodes the pictures; we follow the index and the units to their ends" },
  "clip.mkv": { promised: 110, refused: 4, why: "as above" },
  "tone.ogg": { promised: 0, refused: 40, why: "a cut behind a whole page, which the reader takes for the end" },
  "animated.gif": { promised: 4, refused: 150, why: "a cut behind a whole picture, which the reader takes for the end" },
};

describe("our verdicts and those of independent readers", () => {
  const recorded = JSON.parse(fixture("verdicts.json.gz").toString()) as Recorded[];

  it("cover every file that was recorded", () => expect(recorded.map(({ name }) => name).sort()).toEqual(Object.keys(EXPECTED).sort()));

  it.each(recorded)("$reader on $name", ({ name, content, sound, forms, version }) => {
    expect(version).toMatch(/\d/);
    expect(forms).toHaveLength(FORMS);
    const original = Buffer.from(content, "base64");
    const ours = (bytes: Buffer) => {
      const source = new MemorySource(bytes);
      const format = identify(source, name);
      return format ? runCheck(format, source).verdict : "damaged";
    };
    expect([ours(original), sound]).toEqual(["sound", true]);
    let promised = 0;
    let refused = 0;
    for (let number = 0; number < FORMS; number += 1) {
      const form = damagedFile(original, number);
      if (form.equals(original)) continue;
      const verdict = ours(form);
      if (verdict === "sound" && forms[number] === "0") promised += 1;
      if (verdict === "damaged" && forms[number] === "1") refused += 1;
    }
    const most = EXPECTED[name] as { promised: number; refused: number };
    expect(promised, "called sound, but not by the reader").toBeLessThanOrEqual(most.promised);
    expect(refused, "called damaged, but not by the reader").toBeLessThanOrEqual(most.refused);
  });
});

describe("published check values", () => {
  it("CRC-64 of the .xz format, Adler-32, inflate, base 85", async () => {
    const { Crc64 } = await import("../bytes/crc64");
    const { adler32 } = await import("./zlib");
    const { fromBase85 } = await import("./pdf/base85");
    const crc = new Crc64();
    crc.add(Buffer.from("123456789"));
    // The check value of CRC-64/XZ in the catalogue of parametrised CRC algorithms (from memory).
    expect(crc.value).toEqual([0xdf19_39fa, 0x995d_c9bb]);
    // RFC 1950 has no example; the values are those of Python's zlib (zlib.adler32).
    expect(["", "a", "abc", "message digest"].map((text) => adler32(Buffer.from(text)))).toEqual([
      1, 0x0062_0062, 0x024d_0127, 0x2975_0586,
    ]);
    expect(Buffer.from(fromBase85('87cURD]i,"Ebo80~>') ?? []).toString()).toBe("Hello World!");
  });
});
