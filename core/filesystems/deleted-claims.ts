import { RangeSet } from "../bytes/range-set";
import type { ClusterRun } from "./cluster-chain";

/** Which clusters deleted files claim: more than one file may claim the same, and one may begin in the midst of another. */
export class DeletedClaims {
  readonly #runs: ClusterRun[] = [];
  /** How many clusters the files have that begin at a cluster. */
  readonly #starts = new Map<number, number>();
  readonly #livedOn = new Map<number, number>();
  #contested = new RangeSet();

  /** @param livedOn the file was not deleted by itself: it lasted until its folder, or the whole file system, was gone */
  add(runs: readonly ClusterRun[], firstCluster: number, livedOn: boolean): void {
    this.#runs.push(...runs);
    const count = runs.reduce((sum, run) => sum + run.count, 0);
    if (count === 0) return;
    this.#starts.set(firstCluster, Math.max(count, this.#starts.get(firstCluster) ?? 0));
    if (livedOn) this.#livedOn.set(firstCluster, count);
  }

  /** Adds what the claims of another list say of the same stretches. @param toOwn a run of its clusters in those of this list */
  addAll(others: DeletedClaims, toOwn: (run: ClusterRun) => ClusterRun): void {
    for (const run of others.#runs) this.#runs.push(toOwn(run));
  }

  /** Works out which clusters more than one file claims; call it when all claims are entered. */
  settle(): void {
    const found = new RangeSet();
    let covered = 0;
    for (const run of [...this.#runs].sort((a, b) => a.first - b.first)) {
      const end = run.first + run.count;
      found.add(run.first, Math.min(covered, end));
      covered = Math.max(covered, end);
    }
    this.#contested = found;
  }

  contested(run: ClusterRun): boolean {
    return this.#contested.overlap(run.first, run.first + run.count) > 0;
  }

  /** How many clusters the file claims that begins at this one; 0: none does. `livedOn`: of those alone that were not deleted by themselves. */
  startingAt(cluster: number, livedOn: boolean): number {
    return (livedOn ? this.#livedOn : this.#starts).get(cluster) ?? 0;
  }
}
