import { FileSystemError, type StateOfVolume } from "../../core/filesystems/file-record";
import { usageProfile } from "../../core/filesystems/usage-profile";
import { type DiskReport, openVolume, type VolumeReport } from "../../core/volumes/inspect";
import { volumeSerial } from "../../core/volumes/volume-serial";
import { FolderSource } from "../../io/folder-source";
import { type DiskAt, type OpenedSource, openSource } from "../../io/open-source";
import { markOf } from "../../io/source-mark";

/** A source's structure as it is stored. */
export interface InspectedSource {
  readonly size: number;
  /** The mark by which its disk is known again; null: a folder, or its samples cannot be read. */
  readonly mark: string | null;
  readonly container: string;
  readonly table: string;
  readonly notes: readonly string[];
  readonly volumes: readonly InspectedVolume[];
}
export type InspectedVolume = Omit<ReturnType<typeof volumeRow>, "notes"> & { readonly notes: readonly string[] };

/** Reads the structure of an image or drive, or takes a folder as it is. @throws SourceError when it cannot be opened */
export async function inspectSource(source: DiskAt, folder: boolean): Promise<InspectedSource> {
  if (folder) return inspectFolder(source.sourcePath);
  const opened = openSource(source);
  try {
    return toInspected(opened);
  } finally {
    opened.close();
  }
}

/** What is stored of a source that is open. */
export function toInspected(opened: OpenedSource): InspectedSource {
  const { report } = opened;
  return {
    size: report.size,
    mark: markOf(opened.disk),
    container: report.container,
    table: report.table,
    notes: [...report.notes, ...identityOf(report)],
    volumes: report.volumes.map((volume) => volumeRow(opened, volume)),
  };
}

function inspectFolder(path: string): InspectedSource {
  const { label } = new FolderSource(path);
  const volume: InspectedVolume = {
    number: 0,
    offset: 0,
    length: 0,
    kind: "folder",
    clock: "utc",
    filesystem: "folder",
    view: null,
    states: [],
    label,
    clusterSize: null,
    identity: null,
    serial: null,
    standing: "present",
    closed: null,
    notes: [],
    readable: true,
    usage: null,
    usedBytes: null,
  };
  return { size: 0, mark: null, container: "folder", table: "none", notes: [], volumes: [volume] };
}

/** What a container says about itself. */
function identityOf({ identity, created }: DiskReport): string[] {
  if (!identity) return [];
  const made = created ? `, made ${new Date(created).toISOString().slice(0, 16).replace("T", " ")} UTC` : "";
  return [`The image’s own identity is ${identity}${made}.`];
}

/** Earlier states kept of one volume. */
const MOST_STATES = 256;

function volumeRow(source: OpenedSource, volume: VolumeReport) {
  const base = {
    kind: "volume" as "volume" | "folder",
    clock: "utc" as "utc" | "local",
    number: volume.volume,
    offset: volume.offset,
    length: volume.length,
    filesystem: volume.filesystem as string,
    view: volume.view,
    states: [] as StateOfVolume[],
    label: volume.label,
    clusterSize: volume.clusterSize,
    identity: volume.identity,
    serial: volumeSerial(source.disk, volume.offset, volume.filesystem),
    standing: volume.standing,
    closed: volume.closed,
    notes: [...volume.notes],
  };
  try {
    const opened = openVolume(source.disk, volume);
    const profile = opened.allocation ? usageProfile(opened.allocation) : null;
    return {
      ...base,
      // Names are the disk's, and need not be different; how a state is opened tells it from all others.
      states: [...new Map((opened.states?.() ?? []).map((state) => [state.view, state])).values()].slice(0, MOST_STATES),
      clock: opened.localTimes ? ("local" as const) : ("utc" as const),
      readable: true,
      usage: profile ? Buffer.from(profile.shares) : null,
      usedBytes: profile ? profile.used * opened.clusterSize : null,
    };
  } catch (error) {
    if (!(error instanceof FileSystemError)) throw error;
    return { ...base, readable: false, usage: null, usedBytes: null };
  }
}
