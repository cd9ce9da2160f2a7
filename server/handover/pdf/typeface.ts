import { join } from "node:path";
import * as fontkit from "fontkit";

/** Fonts that ship with the application, in the order in which they are asked for a letter. */
const FILES = [
  "atkinson-hyperlegible-next/files/atkinson-hyperlegible-next-latin",
  "atkinson-hyperlegible-next/files/atkinson-hyperlegible-next-latin-ext",
  "noto-sans/files/noto-sans-latin-ext",
  "noto-sans/files/noto-sans-greek",
  "noto-sans/files/noto-sans-greek-ext",
  "noto-sans/files/noto-sans-cyrillic",
  "noto-sans/files/noto-sans-cyrillic-ext",
  "noto-sans/files/noto-sans-vietnamese",
  "noto-sans/files/noto-sans-devanagari",
] as const;
export type Weight = 400 | 700;

interface Face {
  /** The name under which a document knows it. */
  readonly name: string;
  readonly path: string;
  readonly font: fontkit.Font;
}

/** Letters in one font. */
export interface Run {
  readonly face: string;
  readonly text: string;
  /** In thousandths of the size. */
  readonly width: number;
}

/** The fonts of one weight: which of them has a letter, and how wide text is in them. */
export class Typeface {
  readonly faces: readonly Face[];
  readonly #byLetter = new Map<number, Face | null>();
  readonly #widths = new Map<string, number>();

  constructor(weight: Weight) {
    this.faces = FILES.map((file) => {
      const path = join("node_modules", "@fontsource", `${file}-${weight}-normal.woff`);
      return { name: `${file} ${weight}`, path, font: fontkit.openSync(path) as fontkit.Font };
    });
  }

  /** Text as it can be set: letters that no font has are given by their code, as U+65E5; what has no shape becomes a space. */
  runs(text: string): Run[] {
    const runs: { face: Face; text: string }[] = [];
    for (const letter of text.normalize("NFC")) {
      const own = this.#faceOf(letter);
      const code = letter.codePointAt(0) as number;
      const shown = own ? letter : isFormless(code) ? " " : `U+${code.toString(16).toUpperCase().padStart(4, "0")}`;
      const face = own ?? (this.faces[0] as Face);
      const last = runs[runs.length - 1];
      if (last?.face === face) last.text += shown;
      else runs.push({ face, text: shown });
    }
    return runs.map(({ face, text: own }) => ({ face: face.name, text: own, width: this.#width(face, own) }));
  }

  #faceOf(letter: string): Face | null {
    const code = letter.codePointAt(0) as number;
    const known = this.#byLetter.get(code);
    if (known !== undefined) return known;
    const face = isFormless(code) ? null : (this.faces.find(({ font }) => font.hasGlyphForCodePoint(code)) ?? null);
    this.#byLetter.set(code, face);
    return face;
  }

  #width(face: Face, text: string): number {
    const key = `${face.name} ${text}`;
    const known = this.#widths.get(key);
    if (known !== undefined) return known;
    const width = (face.font.layout(text).advanceWidth / face.font.unitsPerEm) * 1000;
    // Words come again and again; a hostile list of names must not fill the memory.
    if (text.length <= MOST_KEPT && this.#widths.size < 50_000) this.#widths.set(key, width);
    return width;
  }
}

/** Letters of what is kept with its width. */
const MOST_KEPT = 60;

/** Control characters, marks of direction and the like. */
const isFormless = (code: number): boolean =>
  code < 0x20 || (code >= 0x7f && code < 0xa0) || /[\p{Cf}\p{Cs}\p{Co}\p{Zl}\p{Zp}]/u.test(String.fromCodePoint(code));

/** A line of text and its width, in thousandths of the size. */
export interface Line {
  readonly runs: readonly Run[];
  readonly width: number;
}

/**
 * Breaks text into lines: behind spaces and slashes, and within what is longer than a line.
 * @param width in thousandths of the size
 */
export function breakLines(typeface: Typeface, text: string, width: number): Line[] {
  const lines: string[] = [];
  let line = "";
  const widthOf = (part: string) => typeface.runs(part).reduce((sum, run) => sum + run.width, 0);
  // A line is measured as a whole: letters stand closer or wider beside some others (kerning).
  const put = (part: string) => {
    if (line !== "" && widthOf(line + part.trimEnd()) > width) {
      lines.push(line);
      line = "";
    }
    if (line !== "" || widthOf(part.trimEnd()) <= width) {
      line += part;
      return;
    }
    for (const letter of part) {
      if (line !== "" && widthOf(line + letter) > width) {
        lines.push(line);
        line = "";
      }
      line += letter;
    }
  };
  for (const part of text.match(/[^\s/]*[\s/]*/gu) ?? []) if (part !== "") put(part);
  if (line !== "" || lines.length === 0) lines.push(line);
  return lines.map((each) => {
    const runs = typeface.runs(each.trimEnd());
    return { runs, width: runs.reduce((sum, run) => sum + run.width, 0) };
  });
}
