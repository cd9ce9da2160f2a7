import { BlockReader } from "../../bytes/block-reader";
import type { ByteSource } from "../../bytes/byte-source";
import { PastEnd } from "../../bytes/past-end";
import { walkXml } from "../../bytes/xml";
import { breaksAt, type Extent, endsAt, type Format, type Kind, latin1, type Summary } from "../format";
import { defined } from "../tiff-directory";
import { firstWords } from "./text";
import { REFUSED, textOf, textRun } from "./text-run";

const headOf = (head: Uint8Array) =>
  latin1(head, 1024)
    .replace(/^\u00ef\u00bb\u00bf/, "")
    .trimStart();

/** Behind the end of a text a line end belongs to it. */
function withLineEnd(reader: BlockReader, at: number): number {
  if (reader.has(at, "\r\n")) return at + 2;
  return reader.has(at, "\n") || reader.has(at, "\r") ? at + 1 : at;
}

function guarded(source: ByteSource, follow: (reader: BlockReader, end: number) => Extent | null): Extent | null {
  const run = textRun(source);
  if (!run) return null;
  const reader = new BlockReader(source);
  try {
    return follow(reader, run.length);
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    return breaksAt(Math.min(source.size, run.length), "the text breaks off before its end");
  }
}

/**
 * XML 1.0, 2.1 and 3.1: every element that begins must end, the root last. Also used for what is written in it.
 * @param root what the root element is called; null: anything
 */
function followXml(source: ByteSource): Extent | null {
  return guarded(source, (reader, end) => {
    const open: string[] = [];
    let roots = 0;
    let at = reader.find("<", 0, end);
    if (at < 0) return null;
    while (at < end) {
      if (reader.u8(at) !== 0x3c) {
        const next = reader.find("<", at, end);
        if (next < 0) break;
        at = next;
        continue;
      }
      const past = special(reader, at, end);
      if (past !== null) {
        if (past < 0) break;
        at = past;
        continue;
      }
      const close = tagEnd(reader, at, end);
      if (close < 0) break;
      const tag = new TextDecoder().decode(reader.bytes(at + 1, Math.min(close - at - 1, 256)));
      const ending = tag.startsWith("/");
      const name = /^\/?([^\s/>]+)/.exec(tag)?.[1] ?? "";
      if (!/^[A-Za-z_:\u0080-\uffff]/.test(name)) return breaksAt(at, "no element begins where one should");
      if (ending) {
        if (open.pop() !== name) return breaksAt(at, `“${name}” ends without having begun`);
      } else if (reader.u8(close - 1) !== 0x2f) open.push(name);
      if (open.length > 10_000) return breaksAt(at, "elements are nested too deeply");
      at = close + 1;
      if (open.length === 0) {
        roots += 1;
        break;
      }
    }
    return roots > 0 ? endsAt(withLineEnd(reader, at)) : breaksAt(end, "the text breaks off before its end");
  });
}

/** Past a comment, a declaration, a processing instruction or character data; null: an element stands there; -1: no end. */
function special(reader: BlockReader, at: number, end: number): number | null {
  for (const [begin, close] of [
    ["<!--", "-->"],
    ["<![CDATA[", "]]>"],
    ["<?", "?>"],
  ] as const)
    if (reader.has(at, begin)) {
      const found = reader.find(close, at + begin.length, end);
      return found < 0 ? -1 : found + close.length;
    }
  if (!reader.has(at, "<!")) return null;
  let depth = 0;
  for (let next = at + 2; next < end; next += 1) {
    const byte = reader.u8(next);
    if (byte === 0x5b) depth += 1;
    else if (byte === 0x5d) depth -= 1;
    else if (byte === 0x3e && depth <= 0) return next + 1;
  }
  return -1;
}

/** Where the tag that begins at `at` has its ">", quotes counted. */
function tagEnd(reader: BlockReader, at: number, end: number): number {
  let quote = 0;
  for (let next = at + 1; next < Math.min(end, at + (1 << 20)); next += 1) {
    const byte = reader.u8(next);
    if (quote > 0) {
      if (byte === quote) quote = 0;
    } else if (byte === 0x22 || byte === 0x27) quote = byte;
    else if (byte === 0x3e) return next;
  }
  return -1;
}

const SOON = 65_536;

/** The title of a drawing or list: the text of its first element of this name. */
function titleOf(source: ByteSource): Summary {
  const run = textRun(source, SOON);
  let inside = false;
  let title = "";
  if (run)
    walkXml(textOf(source, run, SOON), {
      open: (name) => {
        inside = name.toLowerCase() === "title";
      },
      close: () => {
        inside = false;
      },
      text: (words) => {
        if (inside) title += words;
      },
      enough: () => title !== "" && !inside,
    });
  return defined<Summary>({ title: title.replace(/\s+/g, " ").trim().slice(0, 300) || undefined });
}

const xmlLike = (id: string, kind: Kind, title: string, extension: string, begins: RegExp, rest: Partial<Format> = {}): Format => ({
  id,
  kind,
  title,
  extensions: [extension],
  signatures: [{ at: 0, mark: "<?xml " }, { at: 0, mark: "\xef\xbb\xbf<?xml " }, ...(id === "svg" ? [{ at: 0, mark: "<svg " }] : [])],
  loose: true,
  recognise: (head) => begins.test(headOf(head)),
  follow: followXml,
  summarise: titleOf,
  ...rest,
});

/** HTML: from its type or first element to the end of the last one. */
const html: Format = {
  id: "html",
  kind: "documents",
  title: "web page",
  extensions: ["html", "htm"],
  signatures: ["<!DOC", "<!doc", "<html", "<HTML"].map((mark) => ({ at: 0, mark })),
  loose: true,
  recognise: (head) => /^(<!doctype html|<html)[\s>]/i.test(headOf(head)),
  follow: (source) =>
    guarded(source, (reader, end) => {
      for (let at = reader.find("</", 0, end); at >= 0; at = reader.find("</", at + 2, end))
        if (/^html\s*>$/i.test(reader.ascii(at + 2, Math.min(5, end - at - 2)))) return endsAt(withLineEnd(reader, at + 7));
      return breaksAt(end, "the page breaks off before its end");
    }),
  summarise: titleOf,
};

/** RTF 1.9.1, "Basic Entities": groups in braces; the first one is the document. */
const rtf: Format = {
  id: "rtf",
  kind: "documents",
  title: "rich text",
  extensions: ["rtf"],
  signatures: [{ at: 0, mark: "{\\rtf" }],
  loose: true,
  recognise: (head) => /^\{\\rtf[\d\\]/.test(headOf(head)),
  follow: (source) => {
    const reader = new BlockReader(source);
    try {
      let depth = 0;
      for (let at = 0; ; at += 1) {
        const byte = reader.u8(at);
        if (byte === 0x5c) {
          const binary = reader.has(at, "\\bin") && /^\\bin(\d+)/.exec(reader.ascii(at, Math.min(16, source.size - at)));
          at += binary ? binary[0].length + Number(binary[1]) : 1;
        } else if (byte === 0x7b) depth += 1;
        else if (byte === 0x7d) {
          depth -= 1;
          if (depth === 0) {
            let end = withLineEnd(reader, at + 1);
            if (reader.has(end, "\0") && !reader.has(end, "\0\0")) end += 1;
            return endsAt(reader.has(end - 1, "\0") ? end - 1 : end);
          }
        } else if (REFUSED[byte] || byte > 0xf7) return breaksAt(at, "from here on it is not text");
      }
    } catch (error) {
      if (!(error instanceof PastEnd)) throw error;
      return breaksAt(source.size, "the text breaks off before its end");
    }
  },
  summarise(source): Summary {
    const head = new TextDecoder("windows-1252").decode(new BlockReader(source).bytes(0, Math.min(source.size, 1 << 16)));
    const info = (name: string) => new RegExp(String.raw`\{\\${name} ([^{}\\]{1,200})\}`).exec(head)?.[1]?.trim() || undefined;
    return defined<Summary>({ title: info("title"), author: info("author") });
  },
};

/** JSON: RFC 8259: one value, here an object or a list. */
const json: Format = {
  id: "json",
  kind: "application-data",
  title: "JSON data",
  extensions: ["json"],
  loose: true,
  recognise: (head) => /^(\{\s*("(?:[^"\\]|\\.)*"\s*:|\})|\[\s*[[{"\d\]tfn-])/.test(headOf(head)),
  follow: (source) =>
    guarded(source, (reader, end) => {
      const open: number[] = [];
      let at = reader.has(0, "\xef\xbb\xbf") ? 3 : 0;
      for (; at < end; at += 1) {
        const byte = reader.u8(at);
        if (byte === 0x22) {
          for (at += 1; at < end && reader.u8(at) !== 0x22; at += 1) if (reader.u8(at) === 0x5c) at += 1;
          if (at >= end) break;
        } else if (byte === 0x7b || byte === 0x5b) open.push(byte + 2);
        else if (byte === 0x7d || byte === 0x5d) {
          if (open.pop() !== byte) return breaksAt(at, "a bracket closes that was not opened");
          if (open.length === 0) return endsAt(withLineEnd(reader, at + 1));
        } else if (!PLAIN_JSON.has(byte)) return open.length === 0 ? null : breaksAt(at, "a mark that no value has");
      }
      return breaksAt(end, "the data break off before their end");
    }),
  summarise: firstWords,
};
/** Bytes outside texts: white space, numbers, "true", "false", "null", and what stands between. */
const PLAIN_JSON: ReadonlySet<number> = new Set([..." \t\r\n,:-+.0123456789eEtrufalsn"].map((mark) => mark.charCodeAt(0)));

export const markedUpFormats: readonly Format[] = [
  xmlLike("svg", "drawings", "SVG drawing", "svg", /^(<\?xml[^>]*>\s*)?(<!--[\s\S]*?-->\s*)*(<!DOCTYPE svg[^>]*>\s*)?<svg[\s>]/),
  xmlLike("plist-xml", "application-data", "property list", "plist", /^<\?xml[^>]*>\s*<!DOCTYPE plist/),
  xmlLike("xml", "documents", "XML text", "xml", /^<\?xml[\s]/),
  html,
  rtf,
  json,
];
export { guarded as followingText, withLineEnd };
