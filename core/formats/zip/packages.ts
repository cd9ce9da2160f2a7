import { BlockReader } from "../../bytes/block-reader";
import type { ByteSource } from "../../bytes/byte-source";
import { InflateError, TooMuch } from "../../bytes/inflate";
import { PastEnd } from "../../bytes/past-end";
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

const ENTITIES: Readonly<Record<string, string>> = { amp: "&", lt: "<", gt: ">", quot: '"', apos: "'" };
export const plainXml = (xml: string) =>
  xml.replace(/&(#x[0-9a-f]+|#\d+|\w+);/gi, (whole, name: string) => {
    if (!name.startsWith("#")) return ENTITIES[name] ?? whole;
    const code = name[1] === "x" || name[1] === "X" ? Number.parseInt(name.slice(2), 16) : Number(name.slice(1));
    return code > 0 && code < 0x11_0000 ? String.fromCodePoint(code) : whole;
  });

function fromXml(xml: string): Summary {
  const element = (...wanted: string[]) => {
    for (const name of wanted) {
      const found = new RegExp(`<${name}(?: [^>]*)?>([^<]{1,400})</${name}>`).exec(xml)?.[1]?.trim();
      if (found) return plainXml(found);
    }
    return undefined;
  };
  const time = element("dcterms:modified", "dc:date", "dcterms:created", "meta:creation-date");
  const dated = time === undefined ? Number.NaN : Date.parse(/[zZ]|[+-]\d\d:?\d\d$/.test(time) ? time : `${time.slice(0, 19)}Z`);
  const pages = /meta:page-count="(\d+)"/.exec(xml)?.[1];
  return defined<Summary>({
    title: element("dc:title"),
    author: element("dc:creator", "meta:initial-creator", "cp:lastModifiedBy"),
    dated: Number.isNaN(dated) ? undefined : dated,
    pages: pages ? Number(pages) : undefined,
  });
}

/** The first words of a document's text, without its marks. */
function wordsOf(xml: string): string {
  const body = xml.slice(Math.max(0, xml.search(/<(w:body|office:body|p:cSld|si)\b/)), MOST_TEXT);
  const words = plainXml(body.replace(/<(text:p|w:p|text:h|a:p)\b[^>]*>/g, " ").replace(/<[^>]*>/g, ""));
  return words.replace(/\s+/g, " ").trim().slice(0, 300);
}
