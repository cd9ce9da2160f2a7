import { type ByteSource, readBytes } from "../bytes/byte-source";
import { readPropertyList } from "../bytes/property-list";
import { type Range, RangeSet } from "../bytes/range-set";
import type { Container, Neighbours } from "./container";
import { encryptedImage } from "./encrypted-image";

/** The file of a bundle that says how it is divided; the bands lie in a folder beside it, named by their numbers in hexadecimal. From memory. */
export const BUNDLE_LIST = "Info.plist";
export const BANDS = "bands";
const TOKEN = "token";
const MOST_LIST = 1 << 20;
const MOST_SIZE = 2 ** 50;
const LEAST_BAND = 4096;
const MOST_BAND = 2 ** 32;
/** Bands looked for to say how many are missing. */
const MOST_COUNTED = 65_536;

/** What the list of a bundle says: bytes of the disk, and of a band; null: it is none. */
function readList(file: ByteSource): { size: number; bandSize: number } | null {
  if (file.size > MOST_LIST || file.size < 32) return null;
  const bytes = readBytes(file, 0, file.size);
  // Nearly every small file is distinguished by this.
  if (!Buffer.from(bytes.buffer, bytes.byteOffset, bytes.byteLength).includes("band-size")) return null;
  const list = readPropertyList(bytes) as Record<string, unknown> | null;
  if (!list || typeof list !== "object") return null;
  const [size, bandSize] = [Number(list.size), Number(list["band-size"])];
  const sound = Number.isSafeInteger(size) && size > 0 && size <= MOST_SIZE && bandSize >= LEAST_BAND && bandSize <= MOST_BAND;
  return sound && Number.isSafeInteger(bandSize) ? { size, bandSize } : null;
}

/** Whether a file is the list of a bundle. */
export const isBundleList = (file: ByteSource): boolean => readList(file) !== null;

/** Opens a bundle of bands by its list. @returns null: the file is no such list */
export function openSparseBundle(file: ByteSource, neighbours: Neighbours): Container | null {
  if (neighbours.name !== BUNDLE_LIST) return null;
  const list = readList(file);
  if (!list) return null;
  const { size, bandSize } = list;
  const token = neighbours.open(TOKEN);
  const closed = token ? encryptedImage(token) : null;
  const disk = new BandDisk(neighbours, size, bandSize);
  const count = Math.ceil(size / bandSize);
  const notes: string[] = [];
  if (count <= MOST_COUNTED) {
    const missing = disk.missing(count);
    if (missing > 0)
      notes.push(
        `A bundle of ${count} bands, of which ${missing} are not there: they come as zeros. Whether they were never written or are lost cannot be known from the bundle.`,
      );
  }
  return { kind: "sparse-bundle", form: null, disk, identity: null, created: null, ...(closed ? { closed } : {}), notes };
}

/** A disk in bands, each a file. A band that is not there, or the end of one that is too short, comes as zeros. */
class BandDisk implements ByteSource {
  readonly #bands = new Map<number, ByteSource | null>();
  readonly #refused = new RangeSet();

  constructor(
    private readonly neighbours: Neighbours,
    readonly size: number,
    private readonly bandSize: number,
  ) {}

  missing(count: number): number {
    let missing = 0;
    for (let index = 0; index < count; index += 1) if (!this.#band(index)) missing += 1;
    return missing;
  }

  read(at: number, into: Uint8Array): void {
    into.fill(0);
    this.#each(at, into.length, (band, inside, length, done) => {
      const there = Math.min(length, (band?.size ?? 0) - inside);
      if (!band || there <= 0) return;
      band.read(inside, into.subarray(done, done + there));
      const shift = at + done - inside;
      for (const { start, end } of band.unreadable(inside, there)) this.#refused.add(start + shift, end + shift);
    });
  }

  /** What the bands refused to give so far. */
  unreadable(at: number, length: number): Range[] {
    return this.#refused.within(at, at + length);
  }

  /** Stretches no band holds. */
  holes(at: number, length: number): Range[] {
    const found = new RangeSet();
    this.#each(at, length, (band, inside, part, done) => {
      const there = Math.max(0, Math.min(part, (band?.size ?? 0) - inside));
      found.add(at + done + there, at + done + part);
    });
    return [...found.ranges];
  }

  #band(index: number): ByteSource | null {
    let band = this.#bands.get(index);
    if (band === undefined) {
      band = this.neighbours.open(`${BANDS}/${index.toString(16)}`);
      this.#bands.set(index, band);
    }
    return band;
  }

  #each(at: number, length: number, visit: (band: ByteSource | null, inside: number, length: number, done: number) => void): void {
    const end = Math.min(this.size, at + length);
    for (let from = Math.max(0, at); from < end; ) {
      const index = Math.floor(from / this.bandSize);
      const inside = from - index * this.bandSize;
      const part = Math.min(this.bandSize - inside, end - from);
      visit(this.#band(index), inside, part, from - at);
      from += part;
    }
  }
}
