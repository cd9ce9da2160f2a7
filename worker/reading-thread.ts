import { parentPort, workerData } from "node:worker_threads";
import { openVolume, type VolumeReport } from "../core/volumes/inspect";
import { readVolume } from "../core/volumes/reading";
import { openDisk } from "../io/open-source";

/** What the thread is started with; it answers with the volume's reading. */
export interface ReadingThreadData {
  readonly sourcePath: string;
  readonly volume: Pick<VolumeReport, "offset" | "length"> & { filesystem: string };
}

const { sourcePath, volume } = workerData as ReadingThreadData;
const { disk, close } = openDisk(sourcePath);
parentPort?.postMessage(readVolume(openVolume(disk, { ...volume, filesystem: volume.filesystem as VolumeReport["filesystem"] }), disk));
close();
