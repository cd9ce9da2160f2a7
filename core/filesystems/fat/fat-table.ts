import { type ByteSource, MemorySource, readBytes } from "../../bytes/byte-source";
import { AllocationMap } from "../allocation-map";
import { type Chain, type ClusterRun, followChain } from "../cluster-chain";
import type { FatGeometry } from "./geometry";

const STEP = 1 << 20;
const MOST_CHAINS = 100_000;

/** The allocation table: for each cluster the next one of its file. Kept decoded: 4 bytes a cluster. */
export class FatTable {
  readonly notes: readonly string[];
  readonly #next: Uint32Array;

  constructor(
    volume: ByteSource,
    private readonly geometry: FatGeometry,
  ) {
    const copies = Array.from({ length: geometry.fatCount }, (_, index) => geometry.fatAt + index * geometry.fatBytes);
    const sound = copies.findIndex((at) => this.#headIsSound(volume, at));
    const used = Math.max(0, sound);
    const notes: string[] = [];
    if (sound < 0) notes.push("No copy of the allocation table begins as it should: which clusters belong together may be wrong.");
    else if (sound > 0) notes.push("The first copy of the allocation table is damaged; another one was used.");
    this.#next = decode(volume, copies[used] as number, geometry);
    const other = copies.find((_, index) => index !== used && index >= used);
    if (other !== undefined && sound === 0) {
      const differing = difference(this.#next, decode(volume, other, geometry));
      if (differing > 0) notes.push(`The two copies of the allocation table differ in ${differing} clusters; the first was used.`);
    }
    this.notes = notes;
  }

  isUsed(cluster: number): boolean {
    return (this.#next[cluster] ?? 1) !== 0;
  }

  /** The chain that begins at a cluster, at most `most` clusters long. */
  chain(first: number, most: number): Chain {
    return followChain(first, most, this.geometry.clusters, (cluster) => this.#following(cluster));
  }

  #following(cluster: number): number | "end" | "bad" {
    const next = this.#next[cluster] as number;
    return next === BAD ? "bad" : next > BAD ? "end" : next;
  }

  /** Clusters marked bad. */
  badClusters(): ClusterRun[] {
    const runs: ClusterRun[] = [];
    for (let cluster = 2; cluster < this.#next.length; cluster += 1)
      if (this.#next[cluster] === BAD) runs.push({ first: cluster, count: 1 });
    return runs;
  }

  /** Chains in use that none of the `owned` clusters belongs to (a byte a cluster), from their first cluster on. */
  chainsOutside(owned: Uint8Array): Chain[] {
    const { clusters } = this.geometry;
    const outside = (cluster: number) => this.#next[cluster] !== 0 && this.#next[cluster] !== BAD && owned[cluster] === 0;
    // What another lost cluster leads to is not the beginning of a chain.
    const led = new Uint8Array(clusters + 2);
    for (let cluster = 2; cluster < clusters + 2; cluster += 1) {
      const next = this.#next[cluster] as number;
      if (outside(cluster) && next >= 2 && next < clusters + 2) led[next] = 1;
    }
    // Damaged chains run into one another: each cluster goes to the first one only.
    const taken = owned.slice();
    const chains: Chain[] = [];
    for (let cluster = 2; cluster < clusters + 2 && chains.length < MOST_CHAINS; cluster += 1) {
      if (!outside(cluster) || led[cluster] !== 0 || taken[cluster] !== 0) continue;
      const chain = followChain(cluster, clusters, clusters, (at) => {
        taken[at] = 1;
        const next = this.#following(at);
        return typeof next === "number" && next >= 2 && taken[next] === 1 ? "end" : next;
      });
      if (chain.clusters > 0) chains.push(chain);
    }
    return chains;
  }

  /** Which clusters are in use; its cluster 0 is the volume's cluster 2. */
  allocation(): AllocationMap {
    const { clusters } = this.geometry;
    const bits = new Uint8Array(Math.ceil(clusters / 8));
    for (let index = 0; index < clusters; index += 1)
      if (this.#next[index + 2] !== 0) bits[index >>> 3] = (bits[index >>> 3] as number) | (1 << (index & 7));
    return new AllocationMap(new MemorySource(bits), clusters);
  }

  /** The first entry repeats the kind of medium, with ones above it (FAT Data Structure). */
  #headIsSound(volume: ByteSource, at: number): boolean {
    const [low, high] = readBytes(volume, at, 2) as unknown as [number, number];
    return low === this.geometry.media && (this.geometry.bits === 12 ? (high & 0x0f) === 0x0f : high === 0xff);
  }
}

/** Marks as all three widths share them here: bad cluster, end of chain. */
const BAD = 0x0ffffff7;
const END = 0x0ffffff8;

function decode(volume: ByteSource, at: number, { bits, clusters }: FatGeometry): Uint32Array {
  const next = new Uint32Array(clusters + 2);
  const bad = 2 ** (bits === 32 ? 28 : bits) - 9;
  const put = (index: number, value: number) => {
    next[index] = value > bad ? END : value === bad ? BAD : value;
  };
  const bytes = Math.ceil(((clusters + 2) * bits) / 8);
  // Entries of 12 bits cross bytes: a step is a multiple of three, so that none crosses a step.
  const step = STEP * 3;
  for (let done = 0; done < bytes; done += step) {
    const part = readBytes(volume, at + done, Math.min(step, bytes - done) + 1);
    const view = new DataView(part.buffer);
    const first = (done * 8) / bits;
    const count = Math.min(clusters + 2 - first, Math.floor((step * 8) / bits));
    for (let i = 0; i < count; i += 1) {
      if (bits === 32) put(first + i, i * 4 + 4 <= part.length ? view.getUint32(i * 4, true) & 0x0fffffff : 0);
      else if (bits === 16) put(first + i, i * 2 + 2 <= part.length ? view.getUint16(i * 2, true) : 0);
      else {
        const offset = Math.floor(i * 1.5);
        const pair = offset + 2 <= part.length ? view.getUint16(offset, true) : 0;
        put(first + i, i % 2 === 0 ? pair & 0x0fff : pair >>> 4);
      }
    }
  }
  return next;
}

function difference(a: Uint32Array, b: Uint32Array): number {
  let count = 0;
  for (let i = 2; i < a.length; i += 1) if (a[i] !== b[i]) count += 1;
  return count;
}
