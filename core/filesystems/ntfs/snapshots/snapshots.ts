import type { ByteSource } from "../../../bytes/byte-source";
import type { StateOfVolume } from "../../file-record";
import { findStore, readCatalog, readSnapshotHeader, type SnapshotStore } from "./catalog";
import { STORE_FILE } from "./layout";
import { StateMap } from "./state-map";

/** A file that keeps a snapshot, or kept one. */
export interface StoreFile {
  readonly name: string;
  /** UTC milliseconds. */
  readonly created: number | null;
  /** Where it stands in the volume, in its order. */
  readonly stretches: SnapshotStore["ranges"];
}

const VIEW = "snapshot/";

/** The snapshots kept inside a volume: those its catalog names, and those whose stores still stand. */
export class Snapshots {
  #found: { stores: readonly SnapshotStore[]; notes: readonly string[] } | undefined;

  /** @param files gives the files that keep snapshots; is called where the volume ever had some */
  constructor(
    private readonly volume: ByteSource,
    private readonly files: () => Iterable<StoreFile>,
  ) {}

  /** The states, oldest first. */
  list(): StateOfVolume[] {
    const { stores, notes } = this.#all();
    return stores.map(({ id, created, machine, deleted }) => ({
      view: VIEW + id,
      kind: "snapshot",
      label: deleted ? "Snapshot, deleted from the volume’s list" : "Snapshot",
      asOf: created,
      machine,
      notes: deleted ? [...notes, DELETED] : notes,
    }));
  }

  /** How the volume is read as of a snapshot; null: there is none of this name. */
  open(view: string): { map: StateMap; notes: string[] } | null {
    const { stores } = this.#all();
    const at = stores.findIndex(({ id }) => VIEW + id === view);
    if (at < 0) return null;
    const map = new StateMap(this.volume, stores.slice(at));
    return { map, notes: [...(stores[at]?.deleted ? [DELETED] : []), ...(map.incomplete ? [INCOMPLETE] : [])] };
  }

  #all(): { stores: readonly SnapshotStore[]; notes: readonly string[] } {
    this.#found ??= this.#find();
    return this.#found;
  }

  #find(): { stores: readonly SnapshotStore[]; notes: readonly string[] } {
    const header = readSnapshotHeader(this.volume);
    if (!header) return { stores: [], notes: [] };
    const { stores, notes } = header.catalog === null ? { stores: [], notes: [] } : readCatalog(this.volume, header.catalog);
    const named = new Set(stores.map(({ id }) => id));
    for (const { name, created, stretches } of this.files()) {
      const id = STORE_FILE.exec(name)?.[1]?.toUpperCase();
      const store = id && !named.has(id) ? findStore(this.volume, id, stretches, created) : null;
      // Each is followed into those after it: without its time, that order is not known.
      if (!store || store.created === null) continue;
      named.add(store.id);
      stores.push(store);
    }
    return { stores: stores.sort((a, b) => (a.created ?? 0) - (b.created ?? 0)), notes };
  }
}

const DELETED = "This snapshot was deleted: what it kept is there as far as nothing was written over it.";
const INCOMPLETE =
  "A part of the lists that tell what was kept is lost. Files that only a lost part could speak of are shown as they may be, and never called whole.";
