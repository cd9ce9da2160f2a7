/** Windows code pages by their numbers ([MS-UCODEREF], 2.2.1), as the names the Encoding Standard gives the same tables. */
const NAMED: Readonly<Record<number, string>> = {
  874: "windows-874",
  932: "shift_jis",
  936: "gbk",
  949: "euc-kr",
  950: "big5",
  1200: "utf-16le",
  1201: "utf-16be",
  10000: "macintosh",
  20866: "koi8-r",
  21866: "koi8-u",
  54936: "gb18030",
  65001: "utf-8",
};

/** A decoder for text in a Windows code page; the Western one where the number is not known. */
export function codePageDecoder(codePage: number): TextDecoder {
  const windows = codePage >= 1250 && codePage <= 1258 ? `windows-${codePage}` : null;
  const latin = codePage > 28_590 && codePage <= 28_606 ? `iso-8859-${codePage - 28_590}` : null;
  try {
    return new TextDecoder(NAMED[codePage] ?? windows ?? latin ?? "windows-1252");
  } catch {
    return new TextDecoder("windows-1252");
  }
}
