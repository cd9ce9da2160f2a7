import type { ByteSource } from "../bytes/byte-source";
import type { ArchiveEntry } from "./archive";
import type { EarlierEntries } from "./tar-entries";
import { type TarStep, TarWalk, type TarWalkFrom } from "./tar-walk";

/** Walks through an archive and reads again what further names stand for. @param from a place that an earlier walk over the same bytes gave */
export const walkTar = (source: ByteSource, thorough: boolean, from: TarWalkFrom | null = null): TarWalk =>
  new TarWalk(source, thorough, from, new EarlierInTar(source, thorough));

/** Entries gone through at once. */
const STEP = 4096;
/** Paths that are kept. */
const MOST_PATHS = 1 << 23;

/**
 * The entries of an archive by their paths, for further names of them (hard links). An archive is gone through for them only where such a name stands, up to
 * that name. Of an entry the number of its path and its place are kept; it is read again when a name leads to it.
 */
class EarlierInTar implements EarlierEntries {
  /** Where the last entry of a path begins; of a further name, where the entry begins that it stands for. */
  readonly #places = new Map<number, number>();
  #walk: TarWalk | null = null;
  #steps: Iterator<TarStep | null, void> | null = null;
  #next: TarStep | null = null;
  /** Where the entry begins that the name last gone through stands for. */
  #linked: number | null = null;

  constructor(
    private readonly source: ByteSource,
    private readonly thorough: boolean,
  ) {}

  *advance(before: number): Generator<void, void, void> {
    this.#walk ??= new TarWalk(this.source, this.thorough, null, this.#links());
    this.#steps ??= this.#walk.entries();
    for (let count = 1; this.#next === null || this.#next.begins < before; count += 1) {
      const { done, value } = this.#steps.next();
      if (done) return;
      if (value) {
        const key = numberOf(value.entry.path);
        // A path that is known is kept up to date: an older file must not stand for the last of its name.
        if (this.#places.size < MOST_PATHS || this.#places.has(key)) this.#places.set(key, this.#linked ?? value.begins);
        this.#linked = null;
      }
      this.#next = value;
      if (count % STEP === 0) yield;
    }
  }

  find(path: string): ArchiveEntry | null {
    const at = this.#places.get(numberOf(path));
    if (at === undefined || !this.#walk) return null;
    // That no mark stands behind where the walk is says nothing of what is before it.
    const headers = { ...this.#walk.checkpoint().headers, anywhere: true };
    const again = new TarWalk(this.source, this.thorough, { at, count: 0, damaged: 0, examples: [], general: {}, headers }, this.#links());
    for (const step of again.entries()) if (step) return step.begins === at ? step.entry : null;
    return null;
  }

  /** What a further name in the walk through stands for is noted, not read. */
  #links(): EarlierEntries {
    return {
      *advance() {},
      find: (path) => {
        this.#linked = this.#places.get(numberOf(path)) ?? null;
        return null;
      },
    };
  }
}

/** FNV-1a (the authors' page, 32 bits) of a path, forwards and backwards, in 53 bits. */
function numberOf(path: string): number {
  let [one, other] = [0x811c9dc5, 0x811c9dc5];
  for (let i = 0; i < path.length; i += 1) {
    one = Math.imul(one ^ path.charCodeAt(i), 0x01000193);
    other = Math.imul(other ^ path.charCodeAt(path.length - 1 - i), 0x01000193);
  }
  return (one >>> 0) * 2 ** 21 + (other >>> 11);
}
