import { parentPort, workerData } from "node:worker_threads";
import type { Range } from "../core/bytes/range-set";
import { readVolume } from "../core/volumes/reading";
import { openSearchable, type VolumePlace } from "../io/open-searchable";

/** What the thread is started with; it answers with the volume's reading. */
export interface ReadingThreadData {
  readonly sourcePath: string;
  readonly beside: readonly string[];
  readonly bad: readonly Range[];
  readonly volume: VolumePlace;
}

const { sourcePath, volume, beside, bad } = workerData as ReadingThreadData;
const opened = openSearchable(sourcePath, volume, beside, bad);
parentPort?.postMessage(readVolume(opened.volume, opened.disk));
opened.close();
