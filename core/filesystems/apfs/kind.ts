import { type ByteSource, CachedSource, readBytes, WindowSource } from "../../bytes/byte-source";
import { asciiText } from "../../bytes/text";
import { FileSystemError } from "../file-record";
import type { FileSystemKind, InnerVolume, Recognised, VolumeIdentity, VolumeTrace } from "../file-system-kind";
import { ENCRYPTED, openApfs } from "./apfs";
import { type Checkpoint, Container, parseContainer } from "./container";
import { formerApfs } from "./former";
import { IN_PIECES, OBJECT_TYPE, ROLE, ROLES } from "./layout";
import { isSound, toObject } from "./objects";
import { isEncrypted, type VolumeFacts, VolumeState } from "./state";
import { writeView } from "./view";

const MARK = "NXSB";
const MARK_AT = 32;
/** Blocks at a container's beginning that are looked at when its first one is gone. */
const FIRST_BLOCKS = 64;

/** What is said of a sealed volume, by what its seal is. */
const SEALED = {
  checked:
    "It is sealed: its files are those of the system and cannot be changed by its users. Nothing that they deleted ever stood on it; parts of its tree that were given up have no mark by which they could be found.",
  broken:
    "It was sealed as the system's own, and its seal is broken: files in it were changed since. Its tree of files cannot be held to its hashes.",
  unchecked: "It is sealed, but its seal cannot be read: damage in its tree of files goes unnoticed.",
} as const;

const recognised = ({ facts }: Checkpoint): Recognised => ({
  filesystem: "apfs",
  clusterSize: facts.blockSize,
  length: facts.blockCount * facts.blockSize,
  label: null,
});

/** APFS, by the "Apple File System Reference". */
export const apfs: FileSystemKind = {
  recognise(head) {
    if (asciiText(head.slice(MARK_AT, 4)) !== MARK) return null;
    const clusterSize = head.u32(36);
    return { filesystem: "apfs", clusterSize, length: head.u64(40) * clusterSize, label: null };
  },
  /** Its checkpoints stand near its beginning: each describes the container as its first block does. */
  recogniseCopy(volume) {
    for (let index = 1; index < FIRST_BLOCKS; index += 1) {
      const found = soundContainer(volume, index * 4096);
      if (found) return recognised(found);
    }
    return null;
  },
  former: { title: "APFS", scan: formerApfs },
  openers: { apfs: openApfs },
  volumesIn(disk, start, length): InnerVolume[] {
    const container = Container.open(new CachedSource(new WindowSource(disk, start, length), 16_384, 256));
    const states = container.newest.volumeOids.map((oid, index) =>
      oid === 0
        ? null
        : container.checkpoints.map((each) => VolumeState.atCheckpoint(container, each, index)).find((each) => each !== null),
    );
    return states.flatMap((state, index): InnerVolume[] => {
      if (state === null) return [];
      if (!state)
        return [
          {
            filesystem: "apfs",
            view: writeView(index),
            label: null,
            identity: null,
            closed: null,
            notes: [`The superblock of volume ${index} of the container is damaged in every checkpoint.`],
          },
        ];
      const part = partIn(state.volume, states);
      return [
        {
          filesystem: "apfs",
          view: writeView(index),
          label: state.volume.label,
          identity: identityOf(state.volume),
          closed: isEncrypted(state.volume) ? ENCRYPTED : null,
          notes: [...(part ? [part] : []), ...(state.seal ? [SEALED[state.seal]] : [])],
        },
      ];
    });
  },
  traces: {
    // The type of a container's superblock, and that it stands where it is counted from: the low 16 bits of `o_type`.
    marks: [{ at: MARK_AT, bytes: [0x4e, 0x58] }],
    read(disk, at): VolumeTrace | null {
      const found = soundContainer(disk, at);
      if (!found) return null;
      const { blockSize, blockCount, descriptorBase, descriptorBlocks, descriptorIndex, descriptorLength } = found.facts;
      const length = blockCount * blockSize;
      if (descriptorBlocks >= IN_PIECES || descriptorBlocks === 0) return null;
      // A checkpoint says where in its area it stands: it is the last block of those it consists of. The first block is a copy of one.
      const place = (descriptorBase + ((descriptorIndex + descriptorLength - 1) % descriptorBlocks)) * blockSize;
      const first = at + place + 4096 <= disk.size && asciiText(readBytes(disk, at + place + MARK_AT, 4)) === MARK;
      const start = first ? at : at - place;
      if (start < 0 || !leadsOn(disk, start, length)) return null;
      return { start, length, filesystem: "apfs", by: first ? "boot sector" : "backup boot sector" };
    },
  },
};

/** Says which part of a system a volume is; null: it does not say. @param states those of all volumes of its container */
function partIn(volume: VolumeFacts, states: readonly (VolumeState | null | undefined)[]): string | null {
  const identity = identityOf(volume);
  const other = states.find((each) => {
    const its = each && identityOf(each.volume);
    return its && its.drive !== null && its.drive === identity?.drive && its.id !== identity.id;
  });
  if (identity?.part && other) {
    const [own, others] = identity.part === "system" ? ["system", "data of its users"] : ["users’ data", "system"];
    return `It holds the ${own} of one drive, and the volume “${other.volume.label}” the ${others}: they are one tree.`;
  }
  const words = ROLES.get(volume.facts.role);
  return words ? `Its part in the system is: ${words}.` : null;
}

function identityOf({ uuid, group, facts }: VolumeFacts): VolumeIdentity | null {
  if (uuid === null) return null;
  const part = facts.role === ROLE.system ? "system" : facts.role === ROLE.data ? "data" : null;
  return group !== null && part !== null ? { id: uuid, drive: group, part } : { id: uuid, drive: null, part: null };
}

function soundContainer(disk: ByteSource, at: number): Checkpoint | null {
  if (at + 4096 > disk.size) return null;
  const head = toObject(readBytes(disk, at, 4096), 0);
  if (head.type !== OBJECT_TYPE.container || asciiText(head.cursor.slice(MARK_AT, 4)) !== MARK) return null;
  const found = parseContainer(head);
  if (!found || at + found.facts.blockSize > disk.size) return null;
  return isSound(readBytes(disk, at, found.facts.blockSize)) ? found : null;
}

/** Whether a container would open at a place, and its newest checkpoint can be followed. */
function leadsOn(disk: ByteSource, start: number, length: number): boolean {
  try {
    const container = Container.open(new WindowSource(disk, start, Math.min(length, disk.size - start)));
    return container.mapAt(container.newest) !== null;
  } catch (error) {
    if (error instanceof FileSystemError) return false;
    throw error;
  }
}
