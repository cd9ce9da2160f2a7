import { BlockReader } from "../../bytes/block-reader";
import type { ByteSource } from "../../bytes/byte-source";
import { InflateError, TooMuch } from "../../bytes/inflate";
import { PastEnd } from "../../bytes/past-end";
import { walkXml } from "../../bytes/xml";
import type { Summary } from "../format";
import { defined } from "../tiff-directory";
import { LOCAL, MOST_LOOKED_THROUGH } from "./layout";
import { checkMember, directoryFromEnd, localMember, type ZipMember } from "./members";

const MOST_TEXT = 1 << 20;

/** What an archive is by its first member and the names of the others; null: just an archive. */
export function archiveType(reader: BlockReader, members: () => readonly { name: string }[]): string | null {
  const first = localMember(reader, 0);
  if (first?.name === "mimetype") {
    const type = reader.ascii(first.dataAt, Math.min(80, Math.max(0, reader.size - first.dataAt)));
    for (const [pattern, id] of MIME_TYPES) if (pattern.test(type)) return id;
  }
  const names = members().map(({ name }) => name);
  const has = (pattern: RegExp) => names.some((name) => pattern.test(name));
  if (has(/^word\//)) return "docx";
  if (has(/^xl\//)) return "xlsx";
  if (has(/^ppt\//)) return "pptx";
  // Mac bundles keep their parts in packed pieces; which program they belong to shows in the names of the pieces.
  if (has(/^Index\/.*\.iwa$/)) {
    if (has(/^Index\/(MasterSlide|Slide|TemplateSlide)/)) return "keynote";
    return has(/^Index\/(CalculationEngine|Tables\/)/) && !has(/^Index\/(Section|DrawablesZOrder|BodyStorage)/) ? "numbers" : "pages";
  }
  return "zip";
}

const MIME_TYPES: readonly (readonly [RegExp, string])[] = [
  [/^application\/vnd\.oasis\.opendocument\.text/, "odt"],
  [/^application\/vnd\.oasis\.opendocument\.spreadsheet/, "ods"],
  [/^application\/vnd\.oasis\.opendocument\.presentation/, "odp"],
  [/^application\/vnd\.oasis\.opendocument\.graphics/, "odg"],
  [/^application\/epub\+zip/, "epub"],
];

/** Parts that describe a document: ECMA-376 part 2, 11 (core properties); OpenDocument 1.2 part 1, 4; EPUB 3.3, 5. */
const FACTS = /^(docProps\/core\.xml|meta\.xml|.*\.opf)$/;
const WORDS = /^(word\/document\.xml|content\.xml|ppt\/slides\/slide1\.xml|xl\/sharedStrings\.xml)$/;

/** Title, author and dates of a document in an archive, and its first words. */
export function packageFacts(source: ByteSource): Summary {
  const reader = new BlockReader(source);
  let facts: Summary = {};
  try {
    for (const member of somePart(reader)) {
      if (FACTS.test(member.name)) facts = { ...facts, ...fromXml(readPart(reader, member)) };
      else if (WORDS.test(member.name)) {
        const text = wordsOf(readPart(reader, member));
        if (text) facts = { text, ...facts };
      }
    }
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
  }
  return facts;
}

/** The members that matter here: by the list of contents, or by what is found where there is none. */
function* somePart(reader: BlockReader): Generator<ZipMember, void, void> {
  const wanted = ({ name }: ZipMember) => FACTS.test(name) || WORDS.test(name);
  const directory = directoryFromEnd(reader);
  if ("members" in directory) {
    for (const member of directory.members.slice(0, 10_000)) if (wanted(member)) yield member;
    return;
  }
  const limit = Math.min(reader.size, MOST_LOOKED_THROUGH);
  for (
    let at = reader.find(LOCAL.mark, 0, limit), seen = 0;
    at >= 0 && seen < 1000;
    at = reader.find(LOCAL.mark, at + 1, limit), seen += 1
  ) {
    const member = localMember(reader, at);
    if (member && wanted(member)) yield member;
  }
}

/** A member's plain text, up to a megabyte, as far as it can be unpacked. */
function readPart(reader: BlockReader, { at }: ZipMember): string {
  const member = localMember(reader, at);
  if (!member) return "";
  const pieces: Uint8Array[] = [];
  try {
    checkMember(reader, member, member.sized, MOST_TEXT, (plain) => pieces.push(plain.slice()));
  } catch (error) {
    if (!(error instanceof InflateError || error instanceof TooMuch)) throw error;
  }
  const decoder = new TextDecoder();
  return pieces.map((piece) => decoder.decode(piece, { stream: true })).join("");
}

/** Elements by which a document says what it is: of Dublin Core, of OpenDocument and of the core properties, without prefix. */
const FACT_ELEMENTS: ReadonlySet<string> = new Set([
  "title",
  "creator",
  "initial-creator",
  "lastModifiedBy",
  "modified",
  "date",
  "created",
  "creation-date",
]);

function fromXml(xml: string): Summary {
  const found = new Map<string, string>();
  let open: string | null = null;
  let pages: string | undefined;
  walkXml(xml, {
    open: (name, attribute) => {
      open = FACT_ELEMENTS.has(name) && !found.has(name) ? name : null;
      pages ??= name === "document-statistic" ? attribute("page-count") : undefined;
    },
    close: () => {
      open = null;
    },
    text: (words) => {
      if (open !== null && words.trim()) found.set(open, `${found.get(open) ?? ""}${words}`.trim().slice(0, 400));
    },
  });
  const first = (...names: string[]) => names.map((name) => found.get(name)).find(Boolean);
  const time = first("modified", "date", "created", "creation-date");
  const dated = time === undefined ? Number.NaN : Date.parse(/[zZ]|[+-]\d\d:?\d\d$/.test(time) ? time : `${time.slice(0, 19)}Z`);
  return defined<Summary>({
    title: first("title"),
    author: first("creator", "initial-creator", "lastModifiedBy"),
    dated: Number.isNaN(dated) ? undefined : dated,
    pages: pages && /^\d+$/.test(pages) ? Number(pages) : undefined,
  });
}

/** Elements in which a document's text stands: of OpenDocument, of texts, slides and shared strings of ECMA-376. */
const BODIES: ReadonlySet<string> = new Set(["body", "cSld", "si"]);
const PARAGRAPHS: ReadonlySet<string> = new Set(["p", "h", "si"]);
const FIRST_WORDS = 300;

/** The first words of a document's text, without its marks. */
function wordsOf(xml: string): string {
  let words = "";
  let inside = 0;
  walkXml(xml, {
    open: (name) => {
      if (inside > 0 || BODIES.has(name)) inside += 1;
      if (PARAGRAPHS.has(name)) words += " ";
    },
    close: () => {
      if (inside > 0) inside -= 1;
    },
    text: (text) => {
      if (inside > 0) words += text;
    },
    enough: () => words.length > 4 * FIRST_WORDS,
  });
  return words.replace(/\s+/g, " ").trim().slice(0, FIRST_WORDS);
}
