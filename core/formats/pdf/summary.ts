import { BlockReader } from "../../bytes/block-reader";
import type { ByteSource } from "../../bytes/byte-source";
import { InflateError, TooMuch } from "../../bytes/inflate";
import type { Summary } from "../format";
import { defined } from "../tiff-directory";
import { gather, streamAt } from "./streams";
import { text } from "./words";

/** Milliseconds of a date (7.9.4). */
function pdfTime(value: string | undefined): number | undefined {
  const match = /^D:(\d{4})(\d\d)?(\d\d)?(\d\d)?(\d\d)?(\d\d)?(?:([-+])(\d\d)'?(\d\d)?)?/.exec(value ?? "");
  if (!match) return undefined;
  const [, year, month = "01", day = "01", hour = "0", minute = "0", second = "0", sign, zoneHour = "0", zoneMinute = "0"] = match;
  const away = (sign === "-" ? -1 : sign === "+" ? 1 : 0) * (Number(zoneHour) * 60 + Number(zoneMinute)) * 60_000;
  return Date.UTC(Number(year), Number(month) - 1, Number(day), Number(hour), Number(minute), Number(second)) - away;
}

/** A text string: PDFDocEncoding taken for Latin 1, or UTF-16 with its mark (7.9.2.2); escapes of 7.3.4.2. */
function textString(literal: string | undefined): string | undefined {
  if (literal === undefined) return undefined;
  let plain = "";
  if (literal.startsWith("<")) {
    const digits = literal.slice(1, -1).replace(/\s/g, "");
    for (let i = 0; i < digits.length; i += 2) plain += String.fromCharCode(Number.parseInt(digits.slice(i, i + 2).padEnd(2, "0"), 16));
  } else {
    plain = literal.slice(1, -1).replace(/\\([0-7]{1,3}|\r\n|.|\n)/gs, (_, mark: string) => {
      if (/[0-7]/.test(mark)) return String.fromCharCode(Number.parseInt(mark, 8) & 255);
      return { n: "\n", r: "\r", t: "\t", b: "\b", f: "\f" }[mark] ?? (/[\r\n]/.test(mark) ? "" : mark);
    });
  }
  if (plain.startsWith("\xfe\xff")) {
    const bytes = Uint8Array.from(plain.slice(2), (mark) => mark.charCodeAt(0));
    plain = new TextDecoder("utf-16be").decode(bytes);
  }
  return plain.trim() || undefined;
}

const LITERAL = String.raw`(\((?:[^()\\]|\\.)*\)|<[0-9A-Fa-f\s]*>)`;

export function summarise(source: ByteSource): Summary {
  const reader = new BlockReader(source);
  const facts: { -readonly [K in keyof Summary]: Summary[K] | undefined } = {};
  const look = (words: string) => {
    const field = (name: string) => textString(new RegExp(`/${name}\\s*${LITERAL}`, "s").exec(words)?.[1]);
    if (/\/(Producer|Creator|CreationDate)\b/.test(words)) {
      facts.title ??= field("Title");
      facts.author ??= field("Author");
      facts.dated ??= pdfTime(field("ModDate")) ?? pdfTime(field("CreationDate"));
    }
    const count = /\/Type\s*\/Pages\b[^>]*\/Count\s+(\d+)|\/Count\s+(\d+)[^>]*\/Type\s*\/Pages\b/.exec(words);
    if (count) facts.pages = Math.max(facts.pages ?? 0, Number(count[1] ?? count[2]));
  };
  // The facts stand in an object of their own, mostly near one of the ends, or in a packed stream of objects.
  const part = 1 << 18;
  look(text(reader, 0, part));
  if (source.size > part) look(text(reader, Math.max(part, source.size - part), part));
  if (facts.title === undefined || facts.pages === undefined)
    for (let at = reader.find("/ObjStm", 0), seen = 0; at >= 0 && seen < 16; at = reader.find("/ObjStm", at + 1), seen += 1) {
      const stream = streamAt(reader, Math.max(0, at - 64), source.size);
      if (!stream) continue;
      try {
        look(new TextDecoder("latin1").decode(gather(reader, stream.dataAt, source.size)));
      } catch (error) {
        if (!(error instanceof InflateError || error instanceof TooMuch)) throw error;
      }
    }
  return defined<Summary>(facts);
}
