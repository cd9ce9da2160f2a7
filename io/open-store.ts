import { numberCheckpoint, readNumberCheckpoint } from "../core/bytes/checkpoint";
import type { FileRecord, FileSystem } from "../core/filesystems/file-record";
import type { FileTree } from "../core/places/file-tree";
import { type BackupSet, recordsIn, type SetState } from "../core/sets/backup-set";
import { FOLDER, openSearchable, type Searchable } from "./open-searchable";
import type { Store } from "./stores";

/** Opens a store for reading its files, whatever it is. @throws SourceError or FileSystemError when it cannot be opened */
export function openStore(store: Pick<Store, "disk" | "volume" | "state">): Searchable {
  const { disk, volume, state } = store;
  const around = openSearchable(disk, volume ?? { filesystem: FOLDER, offset: 0, length: 0, view: null });
  if (!state) return around;
  const close = () => {
    state.set.close?.();
    around.close();
  };
  return { ...around, ...stateOfSet(around, state.set, state.state), close };
}

/** One state of a backup set as a volume of its own: the files that stood in it, under the paths the client had. */
function stateOfSet({ tree, volume, disk }: Searchable, set: BackupSet, state: SetState): { volume: FileSystem; tree: FileTree } {
  const readRecords: FileSystem["readRecords"] = function* (from, step) {
    const first = readNumberCheckpoint(from);
    let records: FileRecord[] = [];
    let done = 0;
    const batch = () => ({ records, resume: numberCheckpoint(done), done, total: done });
    for (const record of recordsIn(set, state, tree)) {
      done += 1;
      if (done <= first) continue;
      records.push(record);
      if (records.length < step) continue;
      yield batch();
      records = [];
    }
    yield batch();
  };
  const { clusterSize } = volume;
  return {
    volume: { clusterSize, label: state.label, notes: [...state.notes, ...set.notes], allocation: null, allocationStart: 0, readRecords },
    tree: {
      serial: null,
      disk,
      readRecords,
      open: (record) => set.open?.(record, tree) ?? tree.open(record),
    },
  };
}
