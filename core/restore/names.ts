/** File systems of the devices people are handed allow no more than this for one name (UTF-8 bytes). */
const MAX_NAME_BYTES = 255;
/** Room for a suffix such as " (12)" added when the name is taken. */
const KEPT_FREE = 16;
/** Folder that takes what stood under parents that are not known any more. */
const UNKNOWN_FOLDER = "_unknown folder";

const encoder = new TextEncoder();

/**
 * A stored path as folder and file names that can be written on any device: no name leads out of the destination,
 * and what some file systems refuse (control characters, `< > : " \ | ? *`) becomes an underscore.
 */
export function safeComponents(path: string): string[] {
  const parts = path.split("/").filter((part) => part !== "");
  return parts.map((part, index) => (part === "?" && index === 0 ? UNKNOWN_FOLDER : safeName(part)));
}

export function safeName(name: string): string {
  const cleaned = name
    .normalize("NFC")
    // biome-ignore lint/suspicious/noControlCharactersInRegex: control characters are just what must go
    .replace(/[\u0000-\u001f\u007f<>:"\\|?*/]/g, "_")
    // Marks that turn the reading direction can make "gpj.exe" look like "exe.jpg".
    .replace(/[\u202a-\u202e\u2066-\u2069]/g, "")
    .replace(/[. ]+$/, (tail) => "_".repeat(tail.length));
  return shorten(cleaned === "" ? "_" : notADevice(cleaned), MAX_NAME_BYTES - KEPT_FREE);
}

/**
 * Names that mean devices on Windows, with any extension behind them, in any folder. Source: "Naming Files, Paths, and Namespaces",
 * naming conventions, in the public documentation of the Windows file API; CONIN$ and CONOUT$: "Console handles" there.
 */
const DEVICES = /^(?:con|prn|aux|nul|conin\$|conout\$|(?:com|lpt)[0-9\u00b9\u00b2\u00b3])(?= *(?:\.|$))/i;

/** The same name, with an underscore behind the part that would mean a device: "NUL.docx" → "NUL_.docx". */
const notADevice = (name: string) => name.replace(DEVICES, "$&_");

/** The same name with a number before its extension: "letter.docx" → "letter (2).docx". */
export function numberedName(name: string, number: number): string {
  const { stem, extension } = splitName(name);
  return `${stem} (${number})${extension}`;
}

/** Names that differ in case or Unicode form alone are one on many devices. */
export const fold = (name: string): string => name.normalize("NFC").toLowerCase();

/** Gives each of many files a path that no other has, as a file or as a folder: twins are numbered, be they files or folders called like a file. */
export class GivenPaths {
  /** Folded paths. */
  readonly #given = new Map<string, "file" | "folder">();

  /** @param parts safe names of folders and file, the file's own last @returns those it is given */
  give(parts: readonly string[]): string[] {
    const given: string[] = [];
    for (const [index, name] of parts.entries()) {
      const as = index === parts.length - 1 ? "file" : "folder";
      const keyOf = (own: string) => fold([...given, own].join("/"));
      const isFree = (own: string) => {
        const there = this.#given.get(keyOf(own));
        return there === undefined || (there === "folder" && as === "folder");
      };
      let own = name;
      for (let number = 2; !isFree(own); number += 1) own = numberedName(name, number);
      this.#given.set(keyOf(own), as);
      given.push(own);
    }
    return given;
  }
}

function splitName(name: string): { stem: string; extension: string } {
  const dot = name.lastIndexOf(".");
  return dot > 0 && name.length - dot <= 12 ? { stem: name.slice(0, dot), extension: name.slice(dot) } : { stem: name, extension: "" };
}

function shorten(name: string, limit: number): string {
  if (encoder.encode(name).length <= limit) return name;
  const { stem, extension } = splitName(name);
  const characters = [...stem];
  while (characters.length > 1 && encoder.encode(characters.join("") + extension).length > limit) characters.pop();
  return characters.join("") + extension;
}

/** A named stream becomes a file beside its own, whose name holds both. */
export const streamFileName = (name: string, stream: string) => `${name} [${stream.replaceAll("/", "_")}]`;

/**
 * The name of a repaired file, which never passes for the original: "letter.docx" → "letter (repaired).docx".
 * @param unpacked it is what was packed: its last extension is that of the package
 */
export function repairedName(name: string, unpacked: boolean): string {
  const { stem, extension } = splitName(name);
  return `${stem} (repaired)${unpacked ? "" : extension}`;
}
