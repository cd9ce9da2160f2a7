import { parentPort, workerData } from "node:worker_threads";
import { readVolume } from "../core/volumes/reading";
import { openSearchable, type VolumePlace } from "../io/open-searchable";
import type { SourceAt } from "../io/open-source";
import { logReaderFaults } from "../server/log/reader-faults";

logReaderFaults();

/** What the thread is started with; it answers with the volume's reading. */
export interface ReadingThreadData extends SourceAt {
  readonly volume: VolumePlace;
}

const data = workerData as ReadingThreadData;
const opened = openSearchable(data, data.volume);
parentPort?.postMessage(readVolume(opened.volume, opened.disk));
opened.close();
