import { type ByteSource, WindowSource } from "../bytes/byte-source";
import { type PackedFile, viewOf } from "../bytes/packed-file";
import type { Range } from "../bytes/range-set";
import type { Container, ContainerKind } from "../containers/container";
import { closedVolume, looksRandom } from "../filesystems/closed-volume";
import { type FileSystem, FileSystemError } from "../filesystems/file-record";
import type { Recognised, VolumeIdentity } from "../filesystems/file-system-kind";
import { type FileSystemName, isBackup } from "../filesystems/names";
import { recogniseByRecords, recogniseFileSystem, recogniseRemains } from "../filesystems/recognise";
import { hasFiles, identifyVolume, openFileSystem, volumesIn } from "../filesystems/registry";
import type { Partition, PartitionTable } from "../partitions/partition";
import { readPartitions } from "../partitions/read-partitions";
import { findVolumes } from "./find-volumes";

/** A volume found on a disk. Offsets and lengths are bytes of the disk. */
export interface VolumeReport {
  /** Counts from 0 in the order on the disk. */
  readonly volume: number;
  readonly container: ContainerKind;
  readonly table: PartitionTable["kind"];
  readonly offset: number;
  readonly length: number;
  readonly filesystem: FileSystemName;
  /** Which of several volumes in the same place it is; null: there is one alone. */
  readonly view: string | null;
  readonly label: string | null;
  /** What tells it from all other volumes; null: its file system does not say, or that is not read. */
  readonly identity: VolumeIdentity | null;
  readonly clusterSize: number | null;
  /** Named by the partition table; found where no table names it; or of an earlier division, with another volume over it now. */
  readonly standing: "present" | "lost" | "earlier";
  /** Of an earlier one: the volumes that lie over it now. */
  readonly over: readonly VolumeAt[];
  /** Why its content stays closed (it is encrypted); null: it does not. */
  readonly closed: string | null;
  readonly notes: readonly string[];
}

/** How a volume is opened. */
export type VolumeAt = Pick<VolumeReport, "offset" | "length" | "filesystem" | "view">;

export interface DiskReport {
  readonly container: ContainerKind;
  /** The identity the container gives itself, and when it was made (UTC milliseconds); null: not given. */
  readonly identity: string | null;
  readonly created: number | null;
  /** Bytes of the disk inside the container. */
  readonly size: number;
  readonly table: PartitionTable["kind"];
  readonly volumes: readonly VolumeReport[];
  /** What concerns the disk as a whole. */
  readonly notes: readonly string[];
}

type Held = Pick<Container, "kind" | "identity" | "created" | "notes" | "closed" | "placeless" | "file"> & { readonly disk?: ByteSource };

const RAW: Held = { kind: "raw", identity: null, created: null, notes: [] };

/** Says what a disk holds: its partition table and the volumes in it, those no table names included. Damage becomes notes. */
export function inspectDisk(disk: ByteSource, held: Held = RAW): DiskReport {
  if (held.closed || held.placeless) return oneStretch(disk, held);
  // Behind damage no place on a disk is right.
  if (held.file && (!held.file.isSound || disk.size < SMALLEST_DISK)) return oneFile(disk, held, held.file);
  const table = readPartitions(disk);
  const bare = table.partitions.length === 0 ? [{ start: 0, length: disk.size, type: null, name: null }] : table.partitions;
  const declared = [...bare].sort((a, b) => a.start - b.start).flatMap((partition) => withInner(disk, declaredVolume(disk, partition)));
  const alone = table.partitions.length === 0;
  const notes = [...held.notes, ...table.notes];
  const others = otherVolumes(disk, declared, alone, notes, held.disk ?? disk);
  if (held.file && others.length === 0 && declared.every(({ filesystem }) => filesystem === "unknown"))
    return oneFile(disk, held, held.file);
  // A disk without a table that turns out to hold volumes is no volume itself.
  const unknown = alone && declared[0]?.filesystem === "unknown" && !declared[0].closed;
  const kept = !unknown ? declared : others.length > 0 ? [] : [remainsOf(disk) ?? (declared[0] as FoundVolume)];
  const listed = [...kept, ...others.filter((each) => each.standing === "lost")].sort((a, b) => a.offset - b.offset);
  const volumes = [...listed, ...others.filter((each) => each.standing === "earlier")].map(
    (found, volume): VolumeReport => ({ volume, container: held.kind, table: table.kind, ...found, over: laterOver(found, listed) }),
  );
  if (volumes.some((each) => each.standing === "lost") && alone)
    notes.push("There is no partition table any more; the volumes were found by their own boot sectors.");
  for (const overlap of overlapping(volumes)) notes.push(overlap);
  return { container: held.kind, identity: held.identity, created: held.created, size: disk.size, table: table.kind, volumes, notes };
}

/** A backup file or archive whose beginning is lost; null: it is none. */
function remainsOf(disk: ByteSource): FoundVolume | null {
  const recognised = recogniseRemains(disk);
  return recognised.filesystem === "unknown" ? null : describe(disk, 0, disk.size, recognised, "present", null, []);
}

/** Bytes of which no volume is looked for in the content of a compressed file. */
const SMALLEST_DISK = 64 << 10;

/** The content of one file that was compressed by itself, as a store of that file. */
function oneFile(disk: ByteSource, held: Held, file: PackedFile): DiskReport {
  const report = oneStretch(disk, held);
  return { ...report, volumes: report.volumes.map((volume) => ({ ...volume, filesystem: "packed", view: viewOf(file) })) };
}

/** A disk in which no volume can be read: why is said by what holds it. */
function oneStretch(disk: ByteSource, held: Held): DiskReport {
  const volume = {
    volume: 0,
    container: held.kind,
    table: "none",
    offset: 0,
    length: disk.size,
    filesystem: "unknown",
    view: null,
    label: null,
    identity: null,
    clusterSize: null,
    standing: "present",
    over: [],
    closed: held.closed ?? null,
    notes: held.closed ? [held.closed] : [],
  } as const;
  const { kind, identity, created, notes } = held;
  return { container: kind, identity, created, size: disk.size, table: "none", volumes: [volume], notes };
}

type FoundVolume = Omit<VolumeReport, "volume" | "container" | "table" | "over">;

/** The volumes of the present division, or that were the last one's, that lie over an earlier one; none over any other. */
export function laterOver<Volume extends VolumeAt & Pick<VolumeReport, "standing">>(earlier: Volume, volumes: readonly Volume[]): Volume[] {
  if (earlier.standing !== "earlier") return [];
  return volumes.filter(
    ({ standing, offset, length, filesystem }) =>
      standing !== "earlier" && !isBackup(filesystem) && offset < earlier.offset + earlier.length && offset + length > earlier.offset,
  );
}

function declaredVolume(disk: ByteSource, partition: Partition): FoundVolume {
  const length = Math.max(0, Math.min(partition.length, disk.size - partition.start));
  const window = new WindowSource(disk, partition.start, length);
  const notes: string[] = [];
  if (length < partition.length) notes.push(`The partition should have ${partition.length} bytes; the disk ends after ${length} of them.`);
  const closed = closedVolume(window);
  if (closed) notes.push(closed);
  return describe(disk, partition.start, length, closed ? NOT_KNOWN : recognise(disk, partition.start, length), "present", closed, notes);
}

const NOT_KNOWN: Recognised = { filesystem: "unknown", length: null, clusterSize: null, label: null };

/** Which file system a stretch holds, by its boot sectors or, with all of them gone, by the records of its file table. */
function recognise(disk: ByteSource, start: number, length: number): Recognised {
  const window = new WindowSource(disk, start, length);
  const recognised = recogniseFileSystem(window);
  if (recognised.filesystem !== "unknown") return recognised;
  return recogniseByRecords(disk, start, length);
}

function describe(
  disk: ByteSource,
  offset: number,
  length: number,
  recognised: Recognised,
  standing: VolumeReport["standing"],
  closed: string | null,
  notes: string[],
): FoundVolume {
  const facts = openFacts(disk, offset, length, recognised.filesystem, null, notes);
  if (recognised.filesystem === "unknown" && !closed && looksRandom(new WindowSource(disk, offset, length)))
    notes.push("Everything looked at in it reads like random numbers: it is encrypted as a whole, or was wiped with them.");
  return {
    offset,
    length,
    filesystem: recognised.filesystem,
    view: null,
    identity: closed ? null : identifyVolume(recognised.filesystem, new WindowSource(disk, offset, length)),
    label: facts?.label ?? recognised.label,
    clusterSize: facts?.clusterSize ?? recognised.clusterSize,
    standing,
    closed,
    notes,
  };
}

/** The volumes that share a place: each of them as a volume of its own. */
function withInner(disk: ByteSource, volume: FoundVolume): FoundVolume[] {
  if (volume.closed || volume.filesystem === "unknown") return [volume];
  try {
    const inner = volumesIn(volume.filesystem, disk, volume.offset, volume.length);
    if (!inner || inner.length === 0) return [volume];
    return inner.map(({ filesystem, view, label, identity, closed, notes }) => ({
      ...volume,
      filesystem,
      view,
      label,
      identity,
      closed,
      notes: [...(closed ? [closed] : volume.notes.filter((note) => note !== closed)), ...notes],
    }));
  } catch (error) {
    if (!(error instanceof FileSystemError)) throw error;
    return [volume];
  }
}

/** Volumes that no table names: in the gaps (lost), or inside one that is there now (from an earlier division of the disk). */
function otherVolumes(
  disk: ByteSource,
  declared: readonly FoundVolume[],
  alone: boolean,
  notes: string[],
  straight: ByteSource,
): FoundVolume[] {
  // An encrypted volume is what it is said to be: what looks like a volume in it is chance.
  const sound = declared.filter((each) => each.filesystem !== "unknown" || each.closed);
  const gaps = gapsBetween(sound, disk.size);
  // What lies in a backup file is a file in it, and opened as one.
  const inside = sound
    .filter((each) => !each.closed && !isBackup(each.filesystem))
    .map((each) => ({ start: each.offset, end: each.offset + each.length }));
  const { found, partly } = findVolumes(disk, [...gaps, ...inside], straight);
  const others: FoundVolume[] = [];
  const maps = new Map<FoundVolume, FileSystem | null>();
  for (const trace of found) {
    const same = (each: FoundVolume) => each.offset === trace.start && each.filesystem === trace.filesystem;
    if (sound.some(same) || others.some(same)) continue;
    if (sound.some((each) => each.closed && trace.start >= each.offset && trace.start < each.offset + each.length)) continue;
    const around = sound.find((each) => trace.start >= each.offset && trace.start < each.offset + each.length);
    // One that began where the present one begins is no file in it, though the beginning is in use.
    if (around && around.offset !== trace.start && isContent(disk, around, trace.start, maps)) continue;
    // Inside a volume found by the better evidence of its own boot sector, another one is content or chance.
    const within = others.find((each) => trace.start > each.offset && trace.start + trace.length <= each.offset + each.length);
    if (within) continue;
    const standing = around ? "earlier" : "lost";
    const own: string[] = [];
    if (trace.by !== "boot sector") own.push(`Found by its ${trace.by}.`);
    const length = Math.min(trace.length, disk.size - trace.start);
    if (length < trace.length) own.push(`The volume should have ${trace.length} bytes; the disk ends after ${length} of them.`);
    const next = sound.find((each) => each.offset > trace.start && each.offset < trace.start + length);
    const over = around ?? next;
    if (over)
      own.push(
        `A volume of an earlier division of the disk: it reaches from ${trace.start} to ${trace.start + length}, where the volume at ${over.offset} lies now. What that one has written since is lost to it.`,
      );
    const recognised = { filesystem: trace.filesystem, length: trace.length, clusterSize: null, label: null };
    const volume = describe(disk, trace.start, length, recognised, over ? "earlier" : standing, null, own);
    // Without readable records there is nothing to offer; of an earlier volume they may all be overwritten.
    if (volume.clusterSize !== null && (volume.standing === "lost" || hasFiles(openVolume(disk, volume))))
      others.push(...withInner(disk, volume));
  }
  if (partly.some((range) => alone || gaps.includes(range)))
    notes.push(
      "Lost volumes were searched where no partition is: at its beginnings and ends and beside the volumes that were found, not everywhere.",
    );
  return others;
}

const SMALLEST_GAP = 64 * 1024;

function gapsBetween(volumes: readonly FoundVolume[], size: number): Range[] {
  const gaps: Range[] = [];
  let at = 0;
  for (const volume of [...volumes].sort((a, b) => a.offset - b.offset)) {
    if (volume.offset - at >= SMALLEST_GAP) gaps.push({ start: at, end: volume.offset });
    at = Math.max(at, volume.offset + volume.length);
  }
  if (size - at >= SMALLEST_GAP) gaps.push({ start: at, end: size });
  return gaps;
}

/** Whether a place belongs to a file of the volume it lies in: then what looks like a volume is the image of one, kept as a file. */
function isContent(disk: ByteSource, volume: FoundVolume, at: number, opened: Map<FoundVolume, FileSystem | null>): boolean {
  if (!opened.has(volume)) opened.set(volume, openFacts(disk, volume.offset, volume.length, volume.filesystem, volume.view, []));
  const facts = opened.get(volume);
  if (!facts?.allocation) return false;
  return at >= facts.allocationStart && facts.allocation.isUsed(Math.floor((at - facts.allocationStart) / facts.clusterSize));
}

/** Explains volumes of the table itself that lie over one another. */
function overlapping(volumes: readonly VolumeReport[]): string[] {
  const present = volumes.filter((each) => each.standing === "present");
  return present.slice(1).flatMap((volume, index) => {
    const before = present[index] as VolumeReport;
    // Volumes that share a place do so on purpose.
    return before.offset + before.length > volume.offset && before.view === null
      ? [
          `Volume ${before.volume} and volume ${volume.volume} overlap from ${volume.offset} on: the partition table is damaged, and only one of them can be right there.`,
        ]
      : [];
  });
}

function openFacts(
  disk: ByteSource,
  start: number,
  length: number,
  filesystem: FileSystemName,
  view: string | null,
  notes: string[],
): FileSystem | null {
  if (filesystem === "unknown") return null;
  try {
    const opened = openVolume(disk, { offset: start, length, filesystem, view });
    notes.push(...opened.notes);
    return opened;
  } catch (error) {
    if (!(error instanceof FileSystemError)) throw error;
    notes.push(error.message);
    return null;
  }
}

/**
 * Opens a volume for reading its records.
 * @throws FileSystemError when the file system is not read, or its structures cannot be followed
 */
export function openVolume(disk: ByteSource, { filesystem, offset, length, view }: VolumeAt): FileSystem {
  return openFileSystem(filesystem, disk, offset, length, view);
}
