import { readBytes } from "../../bytes/byte-source";
import type { Extent } from "../../formats/format";
import { damageAt, type Joined, type PieceRoom, type Pieces, UNSURE } from "./pieces";
import { distance, LEAST_SAMPLES, type Likeness, likenessOf, parseWave, sampleAt, type Wave } from "./wave-likeness";

/** Bytes of a cluster that are looked at. */
const LOOKED_AT = 1024;
/** How far clusters of one sound are from each other, at most. */
const ALIKE = 0.3;
/** Clusters that are compared with. */
const MOST_KNOWN = 16;

/** A way to go on: the first piece has so many clusters, the next one begins at this place of the disk. */
interface Way {
  readonly count: number;
  readonly next: number;
  /** How far its clusters are from the sound, as a mean, and on the disk. */
  readonly far: number;
  /** How many of its ends stand beside what sounds otherwise. */
  readonly edges: number;
}

/**
 * Puts a sound in two pieces together by what its samples are like: nothing in it is checked, but how long it is stands in front. The other
 * piece is where as many clusters as are missing sound like the first ones, and those beside them do not. Common practice, no published source.
 * @returns null: it sounds like one piece, or several places are as good
 */
export function joinWave(room: PieceRoom, pieces: Pieces, extent: Extent): Joined | null {
  const wave = parseWave(pieces);
  const { cluster, origin } = room;
  const start = pieces.begins;
  if (!wave || (start - origin) % cluster !== 0 || wave.dataAt + LEAST_SAMPLES * wave.width > cluster) return null;
  const clusters = Math.ceil(wave.size / cluster);
  const isCut = extent.verdict.verdict === "damaged";
  const sounds = new Sounds(room, wave, start, clusters);
  const alike = sounds.learn(isCut ? Math.min(clusters, Math.floor(damageAt(extent) / cluster)) : clusters);
  // A sound changes; where nothing else speaks against one piece, it must break off.
  if (alike === 0 || alike >= clusters || sounds.isSilent) return null;
  if (!isCut && (alike === clusters - 1 || !sounds.breaksOffAt(alike))) return null;
  const ways: Way[] = [];
  for (let count = alike; count >= Math.max(1, alike - MOST_BACK) && !room.disk.isSpent; count -= 1)
    ways.push(...sounds.waysBehind(count).filter(({ next }) => sounds.goesOn(pieces, count, next)));
  ways.sort((a, b) => b.edges - a.edges || (Math.abs(a.far - b.far) < SAME ? b.count - a.count : a.far - b.far));
  const [best] = ways;
  // One a cluster earlier or later is the same place behind a shorter first piece.
  const other = ways.find(({ next }) => best && Math.abs(next - best.next) > MOST_BACK * cluster);
  if (!best || best.edges < (isCut ? 1 : 2) || (other && other.edges === best.edges && other.far - best.far < clearly(best.far)))
    return null;
  const joined = pieces.goingOn(best.count * cluster, best.next);
  return { pieces: joined, extent: { size: wave.size, closed: true, verdict: UNSURE } };
}
/** Clusters that may be taken back from the end of the first piece: foreign ones may sound alike. */
const MOST_BACK = 2;
/** How much nearer the best place must be than another: the more, the farther it is from the sound itself. */
const clearly = (far: number) => Math.max(0.02, far - NEAR);
const NEAR = 0.2;
/** Places are as near where they differ by less. */
const SAME = 0.005;

/** Clusters of the disk around a sound, by how far they are from what it sounds like. */
class Sounds {
  /** Some of the first clusters, and the last ones that sounded alike: a sound changes as it goes on. */
  readonly #known: Likeness[] = [];
  readonly #recent: Likeness[] = [];
  readonly #distances = new WeakMap<Likeness, number>();
  #learned = false;
  /** By the phase of samples in a cluster, and where that is. */
  readonly #found = new Map<number, Map<number, Likeness | null>>();
  #kept = 0;

  constructor(
    private readonly room: PieceRoom,
    private readonly wave: Wave,
    private readonly start: number,
    private readonly clusters: number,
  ) {}

  /** Learns from the first clusters what it sounds like. @returns how many clusters can be its own */
  learn(most: number): number {
    const count = this.#learn(most);
    this.#learned = true;
    return count;
  }

  #learn(most: number): number {
    for (let count = 0; count < most; count += 1) {
      const here = this.#likenessAt(this.start + count * this.room.cluster, this.start, count);
      if (!here) return count === this.clusters - 1 ? most : count;
      if (here.silent && count > 0 && this.#breaksOffBefore(count)) return count;
      if (here.silent || here.quiet) continue;
      if (this.#known.length > 0 && this.#isOther(here)) return count;
      if (this.#known.length < MOST_KNOWN) this.#known.push(here);
      this.#recent.push(here);
      if (this.#recent.length > MOST_RECENT) this.#recent.shift();
    }
    return most;
  }

  /** Whether nothing was heard that could be known again. */
  get isSilent(): boolean {
    return this.#known.length === 0;
  }

  /** Whether from this cluster of one piece on there is something else, and not only for a moment. */
  breaksOffAt(count: number): boolean {
    let others = 0;
    for (let i = count; i < this.clusters && others < CLUSTERS_HEARD; i += 1) {
      const here = this.#likenessAt(this.start + i * this.room.cluster, this.start, i);
      if (here?.silent && i === count) return true;
      if (!here || here.silent || here.quiet) continue;
      if (this.#far(here) < CERTAINLY_OTHER) return false;
      others += 1;
    }
    return others > 0;
  }

  /** Whether the sound is not silent just before a cluster that is: silence hardly begins just where a cluster does. */
  #breaksOffBefore(count: number): boolean {
    const { room, wave } = this;
    const at = this.start + count * room.cluster;
    const few = ABRUPTLY * wave.channels * wave.width;
    return !Buffer.from(readBytes(room.disk, at - few, few)).equals(readBytes(room.disk, at, few));
  }

  /** Whether it is no part of a sound like this. Where the sound is smooth, all that is smooth may be. */
  #isOther(here: Likeness): boolean {
    return this.#isSmooth ? here.roughness > SMOOTH_ENOUGH : this.#distance(here) > ALIKE;
  }

  get #isSmooth(): boolean {
    return this.#known.every(({ roughness }) => roughness < SMOOTH_ENOUGH) && this.#known.some(({ roughness }) => roughness < SMOOTH);
  }

  #far(here: Likeness): number {
    if (this.#isSmooth) return here.roughness > SMOOTH_ENOUGH ? 1 : Math.max(0, here.roughness - SMOOTH);
    return this.#distance(here);
  }

  #distance(here: Likeness): number {
    // While it is learned, what is known changes.
    if (!this.#learned) return this.#nearest(here);
    const known = this.#distances.get(here) ?? this.#nearest(here);
    this.#distances.set(here, known);
    return known;
  }

  #nearest(here: Likeness): number {
    return [...this.#known, ...this.#recent].reduce((least, each) => Math.min(least, distance(each, here)), Number.POSITIVE_INFINITY);
  }

  /** @param shift disk offset minus byte of the file @param index which cluster of the file it would be */
  #likenessAt(at: number, shift: number, index: number): Likeness | null {
    const { wave, room } = this;
    const block = wave.channels * wave.width;
    const inFile = index * room.cluster;
    const phase = (((shift + wave.dataAt - at) % block) + block) % block;
    const from = inFile < wave.dataAt ? wave.dataAt - inFile : phase;
    const isMiddle = index > 0 && index < this.clusters - 1;
    const found = isMiddle ? this.#found.get(phase)?.get(at) : undefined;
    if (found !== undefined) return found;
    const end = Math.min(room.cluster, wave.size - inFile, LOOKED_AT, Math.max(0, room.limitOf(at) - at));
    const here = likenessOf(readBytes(room.disk, at, Math.max(0, end)), from, wave);
    if (!isMiddle || this.#kept >= MOST_KEPT) return here;
    const same = this.#found.get(phase) ?? new Map<number, Likeness | null>();
    this.#found.set(phase, same.set(at, here));
    this.#kept += 1;
    return here;
  }

  /** Whether a cluster can be one of the file's. */
  #isFree(at: number, index: number): boolean {
    const { room, wave } = this;
    const length = Math.min(room.cluster, wave.size - index * room.cluster);
    // Likeness is no proof: where another file begins, that one stands.
    return at >= 0 && at !== this.start && !room.beginsIn(at) && room.limitOf(at) >= at + length && room.freeFrom(at, 1) >= 1;
  }

  /** Whether samples go on across a seam as they do elsewhere. */
  goesOn(pieces: Pieces, count: number, next: number): boolean {
    const { channels, width, dataAt } = this.wave;
    const block = channels * width;
    const length = count * this.room.cluster;
    const seam = dataAt + Math.floor((length - dataAt) / block) * block;
    const before = Math.max(dataAt, seam - BEFORE_SEAM * block);
    const usual = Math.max(256, likenessOf(readBytes(pieces.source(), before, seam - before), 0, this.wave)?.step ?? 0);
    const bytes = readBytes(pieces.acrossSeam(length, next), seam - 2 * block, 4 * block);
    for (let channel = 0; channel < channels; channel += 1) {
      const [a, b, c, d] = [0, 1, 2, 3].map((i) => sampleAt(bytes, i * block + channel * width, width)) as [number, number, number, number];
      if (Math.max(Math.abs(a - 2 * b + c), Math.abs(b - 2 * c + d)) > usual * MOST_STEPS) return false;
    }
    return true;
  }

  /** Places where all that is missing behind so many clusters sounds alike. */
  waysBehind(count: number): Way[] {
    const { cluster, effort } = this.room;
    const most = Math.min(effort.mostAway, Math.floor(effort.reachBlind / cluster));
    const end = this.start + count * cluster;
    const ways: Way[] = [];
    for (let away = -most; away <= most && !this.room.disk.isSpent; away += 1) {
      const next = end + away * cluster;
      if (away === 0 || (next >= this.start && next < end)) continue;
      const way = this.#wayTo(count, next);
      if (way) ways.push(way);
    }
    return ways;
  }

  #wayTo(count: number, next: number): Way | null {
    const { cluster } = this.room;
    const shift = next - count * cluster;
    const missing = this.clusters - count;
    let [sum, heard] = [0, 0];
    for (let i = 0; i < missing; i += 1) {
      const at = next + i * cluster;
      if (!this.#isFree(at, count + i)) return null;
      // A disk that sounds alike everywhere is looked at again from each place.
      this.room.disk.add(-EACH_LOOK);
      const here = this.#likenessAt(at, shift, count + i);
      // Only the last cluster may be too short to say.
      if (!here && i < missing - 1) return null;
      if (!here || here.silent || here.quiet) continue;
      if (this.#isOther(here)) return null;
      sum += this.#distance(here);
      heard += 1;
    }
    if (heard < missing / 2) return null;
    // Pieces lie near each other more often than far.
    const away = Math.log2(1 + Math.abs(next - this.start - count * cluster) / cluster);
    const far = sum / heard + away * EACH_DOUBLING;
    if (far > MOST_FAR) return null;
    return { count, next, far, edges: this.#edge(next - cluster, shift) + this.#edge(next + missing * cluster, shift) };
  }

  /** 1 where a cluster beside a piece is another file's, or sounds otherwise. */
  #edge(at: number, shift: number): number {
    if (!this.#isFree(at, 1)) return 1;
    const here = this.#likenessAt(at, shift, Math.min(1, this.clusters - 1));
    return here && !here.silent && !this.#isOther(here) && this.#distance(here) <= ALIKE ? 0 : 1;
  }
}
/** What a look at a cluster counts beside what is read. Bytes. */
const EACH_LOOK = 128;
/** Clusters whose likeness is kept. */
const MOST_KEPT = 1 << 16;
/** How far what goes on is from the sound at most, on the whole. */
const MOST_FAR = 0.9;
/** How far twice as far away on the disk counts. */
const EACH_DOUBLING = 0.01;
/** How much more samples may differ at a seam than they mostly do. */
const MOST_STEPS = 8;
/** Samples of each channel before a seam by which that is judged. */
const BEFORE_SEAM = 256;
/** The last clusters that sounded alike are compared with, too. */
const MOST_RECENT = 8;
/** The roughness of a smooth sound, and of what can still be a part of one. */
const [SMOOTH, SMOOTH_ENOUGH] = [0.5, 0.8];
/** How far from the sound what is certainly none of it is, and how many clusters must be so. */
const CERTAINLY_OTHER = 0.6;
const CLUSTERS_HEARD = 2;
/** Samples of each channel before silence that are looked at. */
const ABRUPTLY = 4;
