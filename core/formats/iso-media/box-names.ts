/** Boxes that stand at a file's top level: ISO/IEC 14496-12, table 1; ISO/IEC 23009-1; the QuickTime file format's own. */
export const TOP_BOXES: ReadonlySet<string> = new Set([
  "ftyp",
  "styp",
  "moov",
  "mdat",
  "free",
  "skip",
  "wide",
  "meta",
  "moof",
  "mfra",
  "sidx",
  "ssix",
  "prft",
  "emsg",
  "pdin",
  "uuid",
  "udta",
  "pnot",
  "PICT",
  "idat",
  "junk",
]);

/** Boxes that hold nothing but boxes, and how much stands before them. */
export const HOLDERS: Readonly<Record<string, number>> = {
  moov: 0,
  trak: 0,
  mdia: 0,
  minf: 0,
  stbl: 0,
  edts: 0,
  udta: 0,
  moof: 0,
  traf: 0,
  mvex: 0,
  meta: 4,
  iprp: 0,
  ipco: 0,
};

/** Sample entries whose samples are NAL units behind their lengths (ISO/IEC 14496-15), and the box with their settings. */
export const NAL_CODECS: Readonly<Record<string, { box: string; lengthAt: number }>> = {
  avc1: { box: "avcC", lengthAt: 4 },
  avc3: { box: "avcC", lengthAt: 4 },
  hvc1: { box: "hvcC", lengthAt: 21 },
  hev1: { box: "hvcC", lengthAt: 21 },
};

/** Sample entries of sound that is not coded: each sample takes as many bytes as any other (QuickTime File Format, sound sample descriptions; ISO/IEC 23003-5). */
export const PLAIN_SOUND: ReadonlySet<string> = new Set([
  "sowt",
  "twos",
  "raw ",
  "in24",
  "in32",
  "fl32",
  "fl64",
  "lpcm",
  "ipcm",
  "fpcm",
  "alaw",
  "ulaw",
]);

/** Brands (ISO/IEC 14496-12, 4.3) by the format they mean; matched from their beginning. */
export const BRANDS: readonly (readonly [RegExp, string])[] = [
  [/^(hei|hev|mif1|msf1)/, "heic"],
  [/^avi/, "avif"],
  [/^crx/, "iso-raw"],
  [/^M4[ABP] /, "m4a"],
  [/^3g/, "3gp"],
  [/^qt/, "mov"],
];
