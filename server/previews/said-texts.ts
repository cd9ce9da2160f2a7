import { convert } from "html-to-text";
import iconv from "iconv-lite";
import PostalMime from "postal-mime";

/** Texts in a form of their own are shown as what they say: no links, no pictures, nothing that could run. */

const MOST_HTML = 1 << 20;

/** The words of a web page. */
export const htmlWords = (html: string): string =>
  convert(html.slice(0, MOST_HTML), {
    wordwrap: false,
    limits: { maxInputLength: MOST_HTML, maxDepth: 60, maxChildNodes: 20_000 },
    selectors: [
      { selector: "a", options: { ignoreHref: true } },
      { selector: "img", format: "skip" },
      { selector: "script", format: "skip" },
      { selector: "style", format: "skip" },
      { selector: "h1", options: { uppercase: false } },
      { selector: "h2", options: { uppercase: false } },
      { selector: "h3", options: { uppercase: false } },
      { selector: "table", format: "dataTable", options: { uppercaseHeaderCells: false } },
    ],
  });

/** A mail message: from whom to whom, its words, and what hangs on it. */
export async function mailWords(bytes: Uint8Array): Promise<string> {
  const mail = await PostalMime.parse(Buffer.from(bytes), { maxNestingDepth: 30 });
  type Address = { name?: string; address?: string };
  const said = (who: Address | undefined) => [who?.name, who?.address && `<${who.address}>`].filter(Boolean).join(" ");
  const many = (all: readonly Address[] | undefined) => (all ?? []).map(said).join(", ");
  const head = [
    ["From", said(mail.from as Address | undefined)],
    ["To", many(mail.to as Address[] | undefined)],
    ["Copy", many(mail.cc as Address[] | undefined)],
    ["Date", mail.date ?? ""],
    ["Subject", mail.subject ?? ""],
    ["Attached", mail.attachments.map(({ filename, mimeType }) => filename ?? mimeType).join(", ")],
  ].flatMap(([name, value]) => (value ? [`${name}: ${value}`] : []));
  const words = mail.text?.trim() ? mail.text : mail.html ? htmlWords(mail.html) : "";
  return `${head.join("\n")}\n\n${words.trim()}\n`;
}

/** Groups of a Rich Text file that hold no words of the document (Rich Text Format specification 1.9.1, "Destinations"). */
const SILENT = new Set(
  "fonttbl colortbl stylesheet info pict object header footer headerl headerr headerf footerl footerr footerf generator listtable listoverridetable rsidtbl themedata colorschememapping datastore latentstyles xmlnstbl filetbl revtbl fldinst".split(
    " ",
  ),
);
/** Control words that stand for characters. */
const SPOKEN: Readonly<Record<string, string>> = {
  par: "\n",
  line: "\n",
  row: "\n",
  sect: "\n",
  page: "\n",
  tab: "\t",
  cell: "\t",
  emdash: "—",
  endash: "–",
  lquote: "‘",
  rquote: "’",
  ldblquote: "“",
  rdblquote: "”",
  bullet: "•",
  "~": "\u00a0",
  "-": "",
  _: "-",
  "{": "{",
  "}": "}",
  "\\": "\\",
};
const MOST_DEPTH = 200;

interface Group {
  readonly silent: boolean;
  /** Characters that follow one given by its number, for readers that do not know it. */
  readonly skip: number;
}

/** The words of a Rich Text file. */
export function rtfWords(bytes: Buffer): string {
  const rtf = bytes.toString("latin1");
  const page = /\\ansicpg(\d+)/.exec(rtf.slice(0, 2000))?.[1] ?? "1252";
  const encoding = iconv.encodingExists(`cp${page}`) ? `cp${page}` : "cp1252";
  const pattern = /\\'([0-9a-fA-F]{2})|\\([a-z]{1,32})(-?\d{1,10})? ?|\\([^a-z])|([{}])|[\r\n]+|([^\\{}\r\n]+)/g;
  let group: Group = { silent: false, skip: 1 };
  const above: Group[] = [];
  let coded: number[] = [];
  let text = "";
  let skipping = 0;
  const flush = () => {
    if (coded.length > 0) text += iconv.decode(Buffer.from(coded), encoding);
    coded = [];
  };
  const say = (words: string) => {
    flush();
    if (!group.silent) text += words;
  };
  for (const [, hex, word, parameter, symbol, brace, plain] of rtf.matchAll(pattern)) {
    if (brace === "{") {
      flush();
      if (above.length < MOST_DEPTH) above.push(group);
    } else if (brace === "}") {
      flush();
      group = above.pop() ?? group;
      skipping = 0;
    } else if (hex !== undefined) {
      if (skipping > 0) skipping -= 1;
      else if (!group.silent) coded.push(Number.parseInt(hex, 16));
    } else if (word !== undefined) {
      if (SILENT.has(word)) group = { ...group, silent: true };
      else if (word === "uc") group = { ...group, skip: Math.max(0, Number(parameter ?? 1)) };
      else if (word === "u") {
        say(String.fromCharCode(Number(parameter ?? 63) & 0xffff));
        skipping = group.skip;
      } else if (word === "bin") skipping += Math.max(0, Number(parameter ?? 0));
      else if (SPOKEN[word] !== undefined) say(SPOKEN[word]);
    } else if (symbol !== undefined) {
      // A group for readers that know it, and otherwise to be passed over.
      if (symbol === "*") group = { ...group, silent: true };
      else if (SPOKEN[symbol] !== undefined) say(SPOKEN[symbol]);
      else if (symbol === "\r" || symbol === "\n") say("\n");
    } else if (plain !== undefined) {
      const kept = plain.slice(Math.min(skipping, plain.length));
      skipping = Math.max(0, skipping - plain.length);
      if (kept) say(kept);
    }
  }
  flush();
  return text.trim();
}
