import { expect, it } from "vitest";
import { seeded } from "../../../demo/draw";
import { type Encoding, isText } from "./record";

const DECODERS: Readonly<Record<Encoding, TextDecoder>> = {
  utf8: new TextDecoder("utf-8", { fatal: true, ignoreBOM: true }),
  utf16le: new TextDecoder("utf-16le", { fatal: true, ignoreBOM: true }),
  utf16be: new TextDecoder("utf-16be", { fatal: true, ignoreBOM: true }),
};
// biome-ignore lint/suspicious/noControlCharactersInRegex: control characters are what is looked for
const CONTROLS = /[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\ufffe\uffff]/;

/** What the platform's own decoder (WHATWG Encoding Standard) says. */
function isDecoded(bytes: Uint8Array, encoding: Encoding): boolean {
  try {
    return !CONTROLS.test(DECODERS[encoding].decode(bytes));
  } catch {
    return false;
  }
}

it("bytes are a text where the platform's own decoder says so, whatever they are", () => {
  const random = seeded(9);
  const next = (below: number) => Math.floor(random() * below);
  const pieces = ["tide", "é", "Ω", "観測", "🙂", "\u0085", "\u007f", "\t", "\ufffe", "\ufeff", "\ud7ff", "\ue000", "\u{10ffff}", "\u0000"];
  const counts = { yes: 0, no: 0 };
  for (let round = 0; round < 60_000; round += 1) {
    const encoding = (["utf8", "utf16le", "utf16be"] as const)[round % 3] as Encoding;
    const text = Array.from({ length: next(5) }, () => pieces[next(round % 5 === 0 ? pieces.length : 5)]).join("");
    const bytes = Buffer.from(text, encoding === "utf8" ? "utf8" : "utf16le");
    if (encoding === "utf16be") bytes.swap16();
    // Whole, cut, with a byte changed, or of any bytes at all.
    const tried = [
      bytes,
      bytes.subarray(0, next(bytes.length + 1)),
      Buffer.from(bytes),
      Buffer.from(Array.from({ length: next(5) }, () => next(256))),
    ][round % 4] as Buffer;
    if (round % 4 === 2 && tried.length > 0) tried[next(tried.length)] = next(256);
    const wanted = isDecoded(tried, encoding);
    expect(isText(tried, 0, tried.length, encoding), `${encoding} ${tried.toString("hex")}`).toBe(wanted);
    counts[wanted ? "yes" : "no"] += 1;
  }
  expect(Math.min(counts.yes, counts.no)).toBeGreaterThan(10_000);
  expect(isText(Buffer.from("abc"), 1, 3, "utf8")).toBe(false);
});

it("every sequence of two and three bytes is a text where the platform's decoder says so", () => {
  const bytes = Buffer.alloc(3);
  for (let lead = 0xc0; lead < 0x100; lead += 1)
    for (let second = 0x70; second < 0xd0; second += 1)
      for (const third of [0x20, 0x7f, 0x80, 0x9f, 0xa0, 0xbe, 0xbf, 0xc0]) {
        bytes.set([lead, second, third]);
        for (const length of [2, 3])
          expect(isText(bytes, 0, length, "utf8"), bytes.toString("hex")).toBe(isDecoded(bytes.subarray(0, length), "utf8"));
      }
});
