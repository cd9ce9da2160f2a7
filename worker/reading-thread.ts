import { parentPort, workerData } from "node:worker_threads";
import { readVolume } from "../core/volumes/reading";
import { openSearchable, type VolumePlace } from "../io/open-searchable";

/** What the thread is started with; it answers with the volume's reading. */
export interface ReadingThreadData {
  readonly sourcePath: string;
  readonly beside: readonly string[];
  readonly volume: VolumePlace;
}

const { sourcePath, volume, beside } = workerData as ReadingThreadData;
const opened = openSearchable(sourcePath, volume, beside);
parentPort?.postMessage(readVolume(opened.volume, opened.disk));
opened.close();
