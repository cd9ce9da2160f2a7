/** What the rest of the house must know of a format beside what its module does. What is not given does not hold. */
export interface Traits {
  /** Formats that are built alike, and often distinguished by what is inside alone. */
  readonly family?: "zip" | "compound" | "tiff" | "iso-media" | "riff";
  /** Every byte stands under a checksum that its check compares; "mostly": but for headers and tags. */
  readonly checksums?: "all" | "mostly";
  /** A file that breaks off is worth looking for the rest of: the sweep puts it together from two pieces. */
  readonly inPieces?: true;
  /** Inside another file it is worth reporting, as pictures always are; stretches of text or sound are not. */
  readonly worthInside?: true;
  /** Its check follows records with much room between them: where nothing but noise or fill stands, they have ended. */
  readonly roomy?: true;
  /** No other file stands in it: one that begins there has been written over it, or it was cut. */
  readonly holdsNothing?: true;
  /** A broken beginning says nothing: its marks are short, or stand in other data. */
  readonly needsEnd?: true;
  /** Its marks are ordinary words: at every byte they would be found in texts of any kind. */
  readonly atSectorsOnly?: true;
  /** Too general for an extension to be taken from the content. */
  readonly tooGeneral?: true;
  /** A sound file of the same camera or recorder helps to repair it. */
  readonly likesSibling?: true;
  /** How a person is shown it; not given: its bytes. */
  readonly shownAs?: "picture" | "text" | "document" | "tables" | "archive" | "pdf" | "audio" | "video";
}

const TRAITS: Readonly<Record<string, Traits>> = {
  png: { checksums: "all", inPieces: true, shownAs: "picture" },
  jpeg: { inPieces: true, likesSibling: true, shownAs: "picture" },
  gif: { inPieces: true, holdsNothing: true, shownAs: "picture" },
  pdf: { inPieces: true, worthInside: true, shownAs: "pdf" },
  odt: { family: "zip", inPieces: true, worthInside: true, shownAs: "document" },
  ods: { family: "zip", inPieces: true, worthInside: true, shownAs: "tables" },
  odp: { family: "zip", inPieces: true, worthInside: true, shownAs: "document" },
  odg: { family: "zip", inPieces: true, shownAs: "archive" },
  epub: { family: "zip", inPieces: true, shownAs: "archive" },
  docx: { family: "zip", inPieces: true, worthInside: true, shownAs: "document" },
  xlsx: { family: "zip", inPieces: true, worthInside: true, shownAs: "tables" },
  pptx: { family: "zip", inPieces: true, worthInside: true, shownAs: "document" },
  pages: { family: "zip", inPieces: true },
  numbers: { family: "zip", inPieces: true },
  keynote: { family: "zip", inPieces: true },
  zip: { family: "zip", inPieces: true, worthInside: true, tooGeneral: true, shownAs: "archive" },
  wav: { family: "riff", inPieces: true, holdsNothing: true, shownAs: "audio" },
  avi: { family: "riff", inPieces: true },
  webp: { family: "riff", shownAs: "picture" },
  heic: { family: "iso-media", inPieces: true },
  avif: { family: "iso-media", shownAs: "picture" },
  "iso-raw": { family: "iso-media" },
  m4a: { family: "iso-media", inPieces: true, likesSibling: true, shownAs: "audio" },
  "3gp": { family: "iso-media", inPieces: true, likesSibling: true, shownAs: "video" },
  mov: { family: "iso-media", inPieces: true, worthInside: true, likesSibling: true, shownAs: "video" },
  mp4: { family: "iso-media", inPieces: true, worthInside: true, likesSibling: true, shownAs: "video" },
  gzip: { checksums: "mostly", inPieces: true, holdsNothing: true, shownAs: "archive" },
  bzip2: { checksums: "all", inPieces: true, holdsNothing: true, shownAs: "archive" },
  xz: { checksums: "all", inPieces: true, holdsNothing: true, shownAs: "archive" },
  tar: { inPieces: true, needsEnd: true, shownAs: "archive" },
  "7z": { checksums: "all", inPieces: true, shownAs: "archive" },
  rar: { shownAs: "archive" },
  cab: { shownAs: "archive" },
  sqlite: { roomy: true, inPieces: true, worthInside: true, shownAs: "tables" },
  compound: { family: "compound", inPieces: true, worthInside: true, tooGeneral: true },
  doc: { family: "compound", inPieces: true, shownAs: "document" },
  xls: { family: "compound", inPieces: true, shownAs: "tables" },
  ppt: { family: "compound", inPieces: true, shownAs: "document" },
  msg: { family: "compound" },
  vsd: { family: "compound" },
  msi: { family: "compound" },
  tiff: { family: "tiff", inPieces: true, needsEnd: true, shownAs: "picture" },
  nef: { family: "tiff" },
  cr2: { family: "tiff" },
  arw: { family: "tiff" },
  dng: { family: "tiff" },
  pef: { family: "tiff" },
  orf: { needsEnd: true },
  rw2: { needsEnd: true },
  bmp: { roomy: true, holdsNothing: true, needsEnd: true, shownAs: "picture" },
  ico: { needsEnd: true, tooGeneral: true },
  cur: { needsEnd: true },
  webm: { inPieces: true, shownAs: "video" },
  matroska: { inPieces: true, shownAs: "video" },
  mp3: { inPieces: true, holdsNothing: true, needsEnd: true, tooGeneral: true, shownAs: "audio" },
  flac: { checksums: "mostly", inPieces: true, holdsNothing: true, shownAs: "audio" },
  aiff: { holdsNothing: true, tooGeneral: true },
  opus: { checksums: "all", inPieces: true, holdsNothing: true, shownAs: "audio" },
  ogv: { checksums: "all", inPieces: true, holdsNothing: true },
  ogg: { checksums: "all", inPieces: true, holdsNothing: true, shownAs: "audio" },
  "mpeg-ts": { needsEnd: true },
  "mpeg-ps": { needsEnd: true },
  font: { needsEnd: true },
  plist: { needsEnd: true },
  iso: { needsEnd: true, shownAs: "archive" },
  postscript: { shownAs: "text" },
  dxf: { shownAs: "text" },
  svg: { inPieces: true, shownAs: "text" },
  "plist-xml": { shownAs: "text" },
  xml: { inPieces: true, shownAs: "text" },
  html: { atSectorsOnly: true, shownAs: "document" },
  rtf: { inPieces: true, shownAs: "document" },
  json: { holdsNothing: true, needsEnd: true, shownAs: "text" },
  mbox: { atSectorsOnly: true, shownAs: "text" },
  eml: { atSectorsOnly: true, shownAs: "document" },
  ics: { shownAs: "text" },
  vcf: { shownAs: "text" },
  csv: { holdsNothing: true, needsEnd: true, tooGeneral: true, shownAs: "text" },
  words: { holdsNothing: true, needsEnd: true, tooGeneral: true, shownAs: "text" },
  text: { tooGeneral: true, shownAs: "text" },
};

const NONE: Traits = {};

/** The traits of a format, by its id. */
export const traitsOf = ({ id }: { readonly id: string }): Traits => TRAITS[id] ?? NONE;

/** The formats that have traits. */
export const formatsWithTraits = (): string[] => Object.keys(TRAITS);

/** Whether the check of a format compares checksums of all that its files hold, but perhaps for headers and tags. */
export const underChecksums = ({ checksums, family }: Traits): boolean => checksums !== undefined || family === "zip";
