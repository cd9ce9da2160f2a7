import { BlockReader } from "../../bytes/block-reader";
import { WindowSource } from "../../bytes/byte-source";
import { PastEnd } from "../../bytes/past-end";
import type { Format } from "../../formats/format";
import { type ListedObject, sectionAt } from "../../formats/pdf/cross-reference";
import { isCheckedStream, streams } from "../../formats/pdf/streams";
import { text } from "../../formats/pdf/words";
import { PartLayer } from "./part-layer";
import { follow, type Joined, type PieceRoom, type Pieces, UNSURE } from "./pieces";
import { placesOf, type Surroundings, surroundings } from "./surroundings";

/** Ends of documents that are looked at, lists that are followed, and sections and objects of each. */
const MOST_ENDS = 500;
const MOST_LISTS = 6;
const MOST_SECTIONS = 16;
const MOST_OBJECTS = 20_000;
/** Marks of objects around that are looked at. */
const MOST_MARKS = 400_000;

/**
 * Puts a document together by its table of contents (ISO 32000-1, 7.5.4 and 7.5.8), object by object. What stands in an object that is not packed is checked by its
 * syntax alone: so put together, a document is never called whole. @returns null when that is not enough
 */
export function joinPdf(room: PieceRoom, format: Format, first: Pieces): Joined | null {
  const around = surroundings(room, first.begins);
  const marks = new ObjectMarks(room, around);
  for (const { shift, listAt, objects } of likeliest(tables(room, around, first), first)) {
    const laid = new PdfLayer(room, objects, marks.placesOf(objects), listAt, shift).layOut(first);
    const followed = laid && follow(room, format, laid.pieces);
    if (laid && followed?.closed && followed.verdict.verdict !== "damaged" && followed.size > laid.pieces.from)
      return { pieces: laid.pieces, extent: { ...followed, verdict: UNSURE } };
    if (room.disk.isSpent) return null;
  }
  return null;
}

/** Those that name the most objects as the document has them up to where it breaks: many documents of one writer begin alike. */
function likeliest(found: Iterable<Table>, first: Pieces): Table[] {
  const file = new BlockReader(first.source());
  const agreeing = (objects: readonly ListedObject[]) => {
    const wrong = objects.findIndex((object) => !isObjectAt(file, object));
    return wrong < 0 ? objects.length : wrong;
  };
  return [...found]
    .map((table) => ({ table, agree: agreeing(table.objects) }))
    .sort((a, b) => b.agree - a.agree)
    .slice(0, MOST_LISTS)
    .map(({ table }) => table);
}

interface Table {
  readonly shift: number;
  /** Byte of the document at which its last section stands. */
  readonly listAt: number;
  readonly objects: readonly ListedObject[];
}

/** The tables of contents around that lie where the end of their document says, and name the first object the document begins with. */
function* tables(room: PieceRoom, { reader, from }: Surroundings, first: Pieces): Generator<Table, void, void> {
  const { cluster } = room;
  const here = first.lastAt;
  const file = new BlockReader(first.source());
  for (const end of placesOf(room, reader, "startxref", MOST_ENDS)) {
    const line = /^startxref\s+(\d{1,10})\s+%%EOF/.exec(text(reader, end, 64));
    if (!line) continue;
    const listAt = Number(line[1]);
    for (const at of sectionsBefore(reader, end)) {
      const shift = from + at - listAt;
      if ((((shift - here) % cluster) + cluster) % cluster !== 0) continue;
      // The list stands among the objects where it is a stream, and behind it are those of a later one.
      const objects = tryListed(reader, at, end, at - listAt)?.filter((object) => object.at < listAt);
      const [begins] = objects ?? [];
      if (objects && begins && begins.at < first.room.cluster * 2 && isObjectAt(file, begins)) yield { shift, listAt, objects };
    }
  }
}

/** Where a section may stand before the line that names it. */
function sectionsBefore(reader: BlockReader, end: number): number[] {
  const from = Math.max(0, end - SECTION_REACH);
  const before = text(reader, from, end - from);
  const found: number[] = [];
  const table = Math.max(before.lastIndexOf("xref\n"), before.lastIndexOf("xref\r"), before.lastIndexOf("xref "));
  if (table >= 0 && before.slice(table - 5, table) !== "start") found.push(from + table);
  const type = before.lastIndexOf("/XRef");
  const object = type < 0 ? -1 : before.lastIndexOf(" obj", type);
  const number = object < 0 ? null : /\d{1,10} \d{1,5}$/.exec(before.slice(Math.max(0, object - 16), object));
  if (number && !before.slice(object, type).includes("endobj")) found.push(from + object - number[0].length);
  return found;
}
const SECTION_REACH = 1 << 17;

/** The objects a section and those before it name, in the order of the document; null: it cannot be read. */
function tryListed(reader: BlockReader, at: number, end: number, base: number): ListedObject[] | null {
  const objects = new Map<number, ListedObject>();
  try {
    let next: number | null = at;
    for (let sections = 0; next !== null && sections < MOST_SECTIONS; sections += 1) {
      const section = sectionAt(reader, next, end, base);
      // An earlier section that is not there stands in another piece.
      if (section.problem) {
        if (sections === 0) return null;
        break;
      }
      for (const object of section.objects) if (!objects.has(object.number)) objects.set(object.number, object);
      next = section.before === null || base + section.before < 0 ? null : base + section.before;
    }
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    if (objects.size === 0) return null;
  }
  const listed = [...objects.values()].filter((object) => object.at > 0);
  return listed.length > MOST_OBJECTS ? null : listed.sort((a, b) => a.at - b.at);
}

const isObjectAt = (reader: BlockReader, { at, number, generation }: ListedObject) => {
  const mark = /^\s*(\d+)\s+(\d+)\s+obj/.exec(text(reader, at, 32));
  return mark !== null && Number(mark[1]) === number && Number(mark[2]) === generation;
};

/** Where objects begin around, by their numbers: read once for all tables. */
class ObjectMarks {
  #places: Map<string, number[]> | null = null;

  constructor(
    private readonly room: PieceRoom,
    private readonly around: Surroundings,
  ) {}

  placesOf(objects: readonly ListedObject[]): Map<ListedObject, readonly number[]> {
    this.#places ??= this.#read();
    const places = this.#places;
    return new Map(objects.map((object) => [object, places.get(`${object.number} ${object.generation}`) ?? []]));
  }

  #read(): Map<string, number[]> {
    const places = new Map<string, number[]>();
    const { reader, from } = this.around;
    for (const at of placesOf(this.room, reader, " obj", MOST_MARKS)) {
      const name = /(\d{1,10}) (\d{1,5})$/.exec(text(reader, Math.max(0, at - 16), Math.min(16, at)));
      if (!name) continue;
      const key = `${Number(name[1])} ${Number(name[2])}`;
      const own = places.get(key) ?? [];
      own.push(from + at - name[0].length);
      places.set(key, own);
    }
    return places;
  }
}

class PdfLayer extends PartLayer<ListedObject> {
  /** Whether an object begins where it must, its streams are right, and it ends before the next one. */
  protected stands(pieces: Pieces, index: number): boolean {
    const object = this.parts[index] as ListedObject;
    const source = pieces.source();
    const size = (this.parts[index + 1]?.at ?? this.listAt) - object.at;
    if (size <= 0 || object.at + size > source.size) return false;
    const reader = new BlockReader(new WindowSource(source, object.at, size));
    try {
      if (!isObjectAt(reader, { ...object, at: 0 })) return false;
      return streams(reader, size, true).verdict !== "damaged" && reader.find("endobj", Math.max(0, size - TAIL)) >= 0;
    } catch (error) {
      if (!(error instanceof PastEnd)) throw error;
      return false;
    }
  }

  protected isProof(pieces: Pieces, index: number): boolean {
    const { at } = this.parts[index] as ListedObject;
    return isCheckedStream(new BlockReader(pieces.source()), at, pieces.from);
  }

  protected endOf(_pieces: Pieces, index: number): number {
    return (this.parts[index] as ListedObject).at + 1;
  }
}
/** Bytes before the next object in which the one before it has ended; a table or a comment may stand between. */
const TAIL = 1 << 16;
