import mimeTypes from "mime-db";
import type { Kind } from "./format";

/** What the registry of media types says of each extension, sorted into kinds; the first type that names one counts. */
const BY_TYPE: readonly (readonly [RegExp, Kind])[] = [
  [/^image\/(vnd\.(dwg|dxf)|svg|x-(eps|xfig))/, "drawings"],
  [/^image\//, "pictures"],
  [/^video\//, "video"],
  [/^(audio|font\/none)\//, "audio"],
  [/^model\/|cad|drawing|visio|graphics|postscript/, "drawings"],
  [/^message\/|mail|mbox|outlook/, "mail"],
  [/spreadsheet|excel|csv|tab-separated|lotus-1-2-3/, "sheets"],
  [
    /msword|wordprocessing|presentation|powerpoint|opendocument\.text|pdf|rtf|epub|ebook|latex|\btex\b|works|wordperfect|abiword|hwp/,
    "documents",
  ],
  [/zip|compressed|archive|tar|gtar|7z|rar|lzh|arj|cab|diskimage|iso9660|bzip|xz|stuffit|deb|rpm/, "archives"],
  [/^text\/(calendar|vcard|x-vcard|javascript|css|x-c|x-java)/, "application-data"],
  [/^text\//, "documents"],
  [/^(application|font)\//, "application-data"],
];

const byExtension = new Map<string, Kind>();
for (const [type, { extensions }] of Object.entries(mimeTypes)) {
  const kind = BY_TYPE.find(([pattern]) => pattern.test(type))?.[1];
  if (kind)
    for (const extension of extensions ?? [])
      if (!byExtension.has(extension) || kind !== "application-data") byExtension.set(extension, kind);
}

/** The kind of files with this extension as the registry of media types has it. */
export const registeredKind = (extension: string): Kind | undefined => byExtension.get(extension);
/** How many extensions have a kind. */
export const REGISTERED = byExtension.size;
