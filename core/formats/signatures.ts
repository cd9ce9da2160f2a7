import { type Format, hasAscii, type Kind } from "./format";

/**
 * Formats known by their first bytes alone. Signatures from each format's published description; those of the two
 * camera formats and the drawing are common practice, no published source.
 */
const table: readonly [id: string, kind: Kind, title: string, extensions: string, at: number, marks: string[]][] = [
  ["compound", "documents", "compound document", "doc xls ppt msg msi vsd dot xlt pps", 0, ["\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"]],
  ["bmp", "pictures", "BMP picture", "bmp dib", 0, ["BM"]],
  ["tiff", "pictures", "TIFF picture", "tif tiff nef cr2 arw dng pef", 0, ["II*\0", "MM\0*"]],
  ["psd", "pictures", "layered picture", "psd psb", 0, ["8BPS"]],
  ["ico", "pictures", "icon", "ico", 0, ["\0\0\x01\0"]],
  ["rtf", "documents", "rich text", "rtf", 0, ["{\\rtf"]],
  ["postscript", "drawings", "PostScript", "ps eps ai", 0, ["%!PS", "\xc5\xd0\xd3\xc6"]],
  ["dwg", "drawings", "drawing", "dwg", 0, ["AC10"]],
  ["flac", "audio", "FLAC sound", "flac", 0, ["fLaC"]],
  ["ogg", "audio", "Ogg sound", "ogg oga opus ogv", 0, ["OggS"]],
  ["mp3", "audio", "MP3 sound", "mp3", 0, ["ID3", "\xff\xfb", "\xff\xfa", "\xff\xf3", "\xff\xf2"]],
  ["aiff", "audio", "AIFF sound", "aif aiff aifc", 0, ["FORM"]],
  ["matroska", "video", "Matroska video", "mkv webm mka", 0, ["\x1aE\xdf\xa3"]],
  ["asf", "video", "ASF media", "wmv wma asf", 0, ["\x30\x26\xb2\x75\x8e\x66\xcf\x11"]],
  ["7z", "archives", "7z archive", "7z", 0, ["7z\xbc\xaf\x27\x1c"]],
  ["rar", "archives", "RAR archive", "rar", 0, ["Rar!\x1a\x07"]],
  ["bzip2", "archives", "BZIP2 archive", "bz2", 0, ["BZh"]],
  ["xz", "archives", "XZ archive", "xz", 0, ["\xfd7zXZ\0"]],
  ["cab", "archives", "cabinet archive", "cab", 0, ["MSCF"]],
  ["tar", "archives", "TAR archive", "tar", 257, ["ustar"]],
  ["registry", "application-data", "registry hive", "hve", 0, ["regf"]],
  ["link", "application-data", "shell link", "lnk", 0, ["L\0\0\0\x01\x14\x02\0"]],
  ["mailbox", "mail", "mail store", "pst ost", 0, ["!BDN"]],
];

export const signatureFormats: readonly Format[] = table.map(([id, kind, title, extensions, at, marks]) => ({
  id,
  kind,
  title,
  extensions: extensions.split(" "),
  recognise: (head: Uint8Array) => marks.some((mark) => hasAscii(head, at, mark)),
}));
