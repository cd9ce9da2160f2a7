import { type ByteSource, readBytes } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import { powerOfTwo } from "../boot-sectors";
import { FileSystemError } from "../file-record";
import {
  CHECKPOINT_MAP,
  CHECKPOINT_MAPPING,
  CONTAINER,
  CONTAINER_INCOMPATIBLE,
  CONTAINER_MARK,
  IN_PIECES,
  MOST_VOLUMES,
  OBJECT_TYPE,
  VOLUME_OIDS_AT,
} from "./layout";
import { ObjectMap } from "./object-map";
import { type ApfsObject, isSound, Objects, toObject } from "./objects";

/** Blocks of the descriptor area looked at, at most. */
const MOST_DESCRIPTORS = 65_536;
/** Blocks at the beginning that are looked at for a container whose first block is gone. */
const FIRST_BLOCKS = 64;

/** A state of the container that was written as a whole. */
export interface Checkpoint {
  readonly xid: number;
  readonly facts: ReturnType<typeof CONTAINER.read>;
  readonly volumeOids: readonly number[];
}

export function parseContainer(object: ApfsObject): Checkpoint | null {
  const { cursor, xid } = object;
  if (cursor.size < CONTAINER.size) return null;
  const facts = CONTAINER.read(cursor, 0);
  if (facts.magic !== CONTAINER_MARK || !powerOfTwo(facts.blockSize) || facts.blockSize < 4096 || facts.blockSize > 65_536) return null;
  const count = Math.min(MOST_VOLUMES, facts.maxFileSystems);
  const volumeOids = Array.from({ length: count }, (_, index) => cursor.u64(VOLUME_OIDS_AT + index * 8));
  return { xid, facts, volumeOids };
}

/** A container of volumes: its states, the newest first, and how objects are found. */
export class Container {
  readonly notes: string[] = [];

  private constructor(
    readonly objects: Objects,
    /** Sound states, the newest first. */
    readonly checkpoints: readonly Checkpoint[],
  ) {}

  get newest(): Checkpoint {
    return this.checkpoints[0] as Checkpoint;
  }

  /**
   * Opens a container by its newest sound checkpoint. The first block is only asked where the descriptor area stands.
   * @throws FileSystemError when no checkpoint is sound
   */
  static open(volume: ByteSource): Container {
    const { first, sound } = firstBlock(volume);
    if (!first) throw new FileSystemError("Neither the container's first block nor a checkpoint near it can be read.");
    const { blockSize, blockCount, descriptorBase } = first.facts;
    const objects = new Objects(volume, blockSize, Math.min(blockCount, Math.ceil(volume.size / blockSize)));
    const found = new Map<number, Checkpoint>();
    const blocks = Math.min(first.facts.descriptorBlocks % IN_PIECES, MOST_DESCRIPTORS);
    if (first.facts.descriptorBlocks < IN_PIECES)
      for (let index = 0; index < blocks; index += 1) {
        const bytes = readBytes(volume, (descriptorBase + index) * blockSize, blockSize);
        if (new Cursor(bytes).u32(32) !== CONTAINER_MARK || !isSound(bytes)) continue;
        const checkpoint = parseContainer(toObject(bytes, descriptorBase + index));
        if (checkpoint && checkpoint.facts.blockSize === blockSize) found.set(checkpoint.xid, checkpoint);
      }
    if (found.size === 0) {
      if (!sound) throw new FileSystemError("No checkpoint of the container is sound: its first block cannot be trusted alone.");
      found.set(first.xid, first);
    }
    const container = new Container(
      objects,
      [...found.values()].sort((a, b) => b.xid - a.xid),
    );
    if (first.facts.descriptorBlocks >= IN_PIECES)
      container.notes.push(
        "The list of the container's checkpoints stands in pieces, which is not followed: only its first block was used.",
      );
    if (!sound) container.notes.push("The container's first block is damaged; its checkpoints were used.");
    if ((container.newest.facts.incompatible & CONTAINER_INCOMPATIBLE.fusion) !== 0)
      container.notes.push("The container spreads over two drives. What stands on the other one cannot be read here.");
    return container;
  }

  /** The container's object map as of a checkpoint; null: it was written over since, or is damaged. */
  mapAt({ facts, xid }: Checkpoint): ObjectMap | null {
    return ObjectMap.open(this.objects, facts.objectMapOid, xid);
  }

  /** Where the objects stand that a checkpoint keeps in memory: the blocks of its checkpoint maps say so. */
  ephemeral({ facts }: Checkpoint): Map<number, number> {
    const places = new Map<number, number>();
    const { descriptorBase, descriptorBlocks, descriptorIndex, descriptorLength } = facts;
    for (let index = 0; index < Math.min(descriptorLength, MOST_DESCRIPTORS) && descriptorBlocks > 0; index += 1) {
      const object = this.objects.read(descriptorBase + ((descriptorIndex + index) % descriptorBlocks));
      if (object?.type !== OBJECT_TYPE.checkpointMap) continue;
      const { count } = CHECKPOINT_MAP.read(object.cursor, 0);
      for (let entry = 0; entry < count; entry += 1) {
        const at = CHECKPOINT_MAP.size + entry * CHECKPOINT_MAPPING.size;
        if (at + CHECKPOINT_MAPPING.size > object.cursor.size) break;
        const { oid, paddr } = CHECKPOINT_MAPPING.read(object.cursor, at);
        places.set(oid, paddr);
      }
    }
    return places;
  }
}

/** The first block, or where it is damaged the first sound container block near it. */
function firstBlock(volume: ByteSource): { first: Checkpoint | null; sound: boolean } {
  const at = (place: number, size: number): { checkpoint: Checkpoint | null; sound: boolean } => {
    if (place + size > volume.size) return { checkpoint: null, sound: false };
    const bytes = readBytes(volume, place, size);
    const checkpoint = parseContainer(toObject(bytes, place / size));
    return { checkpoint, sound: checkpoint !== null && checkpoint.facts.blockSize === size && isSound(bytes) };
  };
  const head = at(0, 4096);
  const size = head.checkpoint?.facts.blockSize ?? 4096;
  const first = size === 4096 ? head : at(0, size);
  if (first.sound && first.checkpoint) return { first: first.checkpoint, sound: true };
  for (const each of [4096, 8192, 16_384, 32_768, 65_536])
    for (let index = 1; index < FIRST_BLOCKS; index += 1) {
      const found = at(index * each, each);
      if (found.sound && found.checkpoint) return { first: found.checkpoint, sound: false };
    }
  return { first: null, sound: false };
}
