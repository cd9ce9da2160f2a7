import type { ByteSource } from "../bytes/byte-source";
import { ConcatSource } from "../bytes/concat-source";
import { lostPart } from "../bytes/lost-part";
import { type Container, MissingFileError, type Neighbours } from "./container";

const MAX_PARTS = 20_000;

/** How the names of the parts of one image follow one another. */
interface Series {
  readonly base: string;
  readonly place: number;
  readonly name: (place: number) => string;
  /** Where such a series may begin. */
  readonly first: readonly number[];
}

/** What the parts of an archive or of a backup file are called before their numbers. */
const OF_ARCHIVE = /\.(?:zip|tar|bkf)\.$/i;

/** `.001`, `.002` … (also from `.000`, with two to four digits), or `.aa`, `.ab` … (two or three letters). */
function seriesOf(name: string): Series | null {
  const dot = name.lastIndexOf(".");
  const base = name.slice(0, dot + 1);
  const ending = name.slice(dot + 1);
  if (dot < 1) return null;
  if (/^\d{2,4}$/.test(ending))
    return { base, place: Number(ending), name: (place) => `${base}${String(place).padStart(ending.length, "0")}`, first: [0, 1] };
  if (!/^([a-z]{2,3}|[A-Z]{2,3})$/.test(ending)) return null;
  const letterA = ending === ending.toLowerCase() ? 97 : 65;
  const digits = [...ending].map((letter) => letter.charCodeAt(0) - letterA);
  const written = (place: number) => {
    let text = "";
    for (let left = place, i = 0; i < ending.length; i += 1, left = Math.floor(left / 26))
      text = String.fromCharCode(letterA + (left % 26)) + text;
    return `${base}${text}`;
  };
  return { base, place: digits.reduce((sum, digit) => sum * 26 + digit, 0), name: written, first: [0] };
}

/**
 * A raw image split into parts, whichever of them was chosen; null when the name is not that of a part.
 * @throws ContainerError naming the part that is missing
 */
export function openSplit(file: ByteSource, neighbours: Neighbours): Container | null {
  const series = seriesOf(neighbours.name);
  if (!series) return null;
  // Letters end many ordinary names: without a part .aa such a file is no part, and no folder is gone through for it.
  const letters = series.first.length === 1;
  if (letters && series.place !== 0 && !neighbours.open(series.name(0))) return null;
  const present = new Set(neighbours.list());
  const numbers = [...present].flatMap((name) => {
    const other = seriesOf(name);
    return other && other.base === series.base && series.name(other.place) === name ? [other.place] : [];
  });
  const last = Math.max(series.place, ...numbers);
  const first = series.first.find((place) => present.has(series.name(place)) || place === series.place);
  if (first === undefined && numbers.length === 0) return null;
  const begin = first ?? (series.first.at(-1) as number);
  if (letters && (first === undefined || last === begin)) return null;
  if (last - begin >= MAX_PARTS) return null;
  const parts: ByteSource[] = [];
  const notes: string[] = [];
  for (let place = begin; place <= last; place += 1) {
    const name = series.name(place);
    const part = place === series.place ? file : neighbours.open(name);
    if (part) parts.push(part);
    else if (OF_ARCHIVE.test(series.base)) {
      // The rest of an archive can be read without it; all parts but the last are as long as one another.
      parts.push(lostPart(place === begin ? file.size : (parts[0] as ByteSource).size));
      notes.push(`The part “${name}” is missing: what stood in it is lost. Put it beside the others and open them again if it is found.`);
    } else throw new MissingFileError(`The part “${name}” of this split image is missing: put it beside the others and open it again.`);
  }
  const uneven = parts.findIndex((part, index) => index < parts.length - 1 && part.size !== (parts[0] as ByteSource).size);
  if (uneven >= 0)
    notes.push(
      `The part “${series.name(begin + uneven)}” is not as long as the first one: it may be incomplete, and what follows it out of place.`,
    );
  notes.unshift(
    `${OF_ARCHIVE.test(series.base) ? "An archive" : "A raw image"} in ${parts.length} ${parts.length === 1 ? "part" : "parts"}, “${series.name(begin)}” to “${series.name(last)}”.`,
  );
  return { kind: "split", form: null, disk: new ConcatSource(parts), identity: null, created: null, notes };
}
