import { parentPort, workerData } from "node:worker_threads";
import type { Range } from "../core/bytes/range-set";
import type { Copy } from "../core/copies/copy";
import { fileRecordsPass } from "../core/copies/file-records-pass";
import { openVolume, type VolumeReport } from "../core/volumes/inspect";
import { openDisk } from "../io/open-source";
import { copyRows } from "./rows";

/** What the thread is started with. `gate` holds a number: how many batches the main thread has taken. */
export interface PassThreadData {
  readonly sourcePath: string;
  readonly volume: Pick<VolumeReport, "offset" | "length"> & { id: number; filesystem: string };
  readonly resume: number;
  /** Copies in a batch at most. */
  readonly batch: number;
  readonly gate: SharedArrayBuffer;
}

export interface PassThreadBatch {
  readonly rows: Uint8Array;
  readonly resume: number;
  readonly done: number;
  readonly total: number;
  readonly foundLive: number;
  readonly foundLost: number;
  readonly end: boolean;
  /** Stretches of the disk known to be unreadable so far, the first thousand. Bytes. */
  readonly unreadable: readonly Range[];
}

const MOST_UNREADABLE = 1000;

/** A batch is handed over at the latest after this long, so that the screen follows. */
const MAX_MS = 700;

function run(data: PassThreadData): void {
  const source = openDisk(data.sourcePath);
  const gate = new Int32Array(data.gate);
  const volume = openVolume(source.disk, { ...data.volume, filesystem: data.volume.filesystem as VolumeReport["filesystem"] });
  let sent = 0;
  let copies: Copy[] = [];
  let started = Date.now();
  let last = { resume: data.resume, done: 0, total: 0 };
  const send = (end: boolean) => {
    const lost = copies.filter((copy) => copy.state === "deleted" && copy.type === "file").length;
    const live = copies.filter((copy) => copy.state === "live" && copy.type === "file" && !copy.system).length;
    const batch: PassThreadBatch = {
      rows: copyRows(copies, data.volume.id),
      ...last,
      foundLive: live,
      foundLost: lost,
      end,
      unreadable: source.disk.unreadable(0, source.disk.size).slice(0, MOST_UNREADABLE),
    };
    // The main thread takes one batch at a time: a slow database slows the reading, not the memory.
    while (Atomics.load(gate, 0) < sent) Atomics.wait(gate, 0, Atomics.load(gate, 0));
    parentPort?.postMessage(batch, [batch.rows.buffer as ArrayBuffer]);
    sent += 1;
    copies = [];
    started = Date.now();
  };
  for (const batch of fileRecordsPass(volume, source.disk, data.resume, Math.min(data.batch, 512))) {
    copies.push(...batch.copies);
    last = { resume: batch.resume, done: batch.done, total: batch.total };
    if (copies.length >= data.batch || Date.now() - started > MAX_MS) send(false);
  }
  send(true);
  source.close();
}

run(workerData as PassThreadData);
