import { type ByteSource, readBytes } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import type { Geometry } from "./boot-sector";
import { ATTRIBUTE, ATTRIBUTE_TYPE, RECORD, SYSTEM_RECORD } from "./layout";
import { fileNames, type MftRecord, parseMftRecord } from "./mft-record";
import { readRuns } from "./run-list";

/** A volume's geometry as its first file records give it, when no boot sector does. */
export interface FoundGeometry {
  /** Disk byte offset of the volume. */
  readonly start: number;
  readonly geometry: Geometry;
}

const CLUSTER_SIZES = Array.from({ length: 13 }, (_, power) => 512 * 2 ** power);
const RECORD_SIZES = [1024, 4096, 2048, 512] as const;
/** Clusters a volume may have at most; before its size is known no run is refused. */
const ANY = 2 ** 48;

function recordAt(disk: ByteSource, at: number, size: number, number: number): MftRecord | null {
  return at >= 0 && at + size <= disk.size ? parseMftRecord(readBytes(disk, at, size), number) : null;
}

/** First cluster of a record's unnamed data. */
function firstCluster(record: MftRecord | null): number | null {
  const attribute = record?.attributes.find((each) => each.type === ATTRIBUTE_TYPE.data && each.name === "" && each.nonResident);
  return (record && attribute && readRuns(record.cursor, attribute, ANY).runs[0]?.lcn) ?? null;
}

/** Clusters the volume has, by the two files that are as long as it: the map of clusters and the list of bad ones. */
function clusterCount(disk: ByteSource, tableAt: number, size: number, clusterSize: number): number | null {
  const bad = recordAt(disk, tableAt + SYSTEM_RECORD.badClusters * size, size, SYSTEM_RECORD.badClusters);
  const all = bad?.attributes.find((each) => each.type === ATTRIBUTE_TYPE.data && each.name === "$Bad" && each.nonResident);
  if (bad && all) {
    const bytes = bad.cursor.u64(all.at + ATTRIBUTE.dataSize);
    if (bytes >= clusterSize && bytes % clusterSize === 0) return bytes / clusterSize;
  }
  const map = recordAt(disk, tableAt + SYSTEM_RECORD.bitmap * size, size, SYSTEM_RECORD.bitmap);
  const bits = map?.attributes.find((each) => each.type === ATTRIBUTE_TYPE.data && each.name === "" && each.nonResident);
  return map && bits ? map.cursor.u64(bits.at + ATTRIBUTE.dataSize) * 8 : null;
}

/**
 * Works a volume's geometry out from the record by which its file table describes itself and from those after it: the
 * table's first cluster and its place on the disk give the size of a cluster, the copy of the record proves it.
 * @param at disk byte offset of that record (or of its copy)
 * @param start where the volume begins, when that is known
 */
export function geometryFromRecords(disk: ByteSource, at: number, start: number | null): FoundGeometry | null {
  for (const recordSize of RECORD_SIZES) {
    const first = recordAt(disk, at, recordSize, SYSTEM_RECORD.mft);
    if (!first || first.base || first.cursor.u32(RECORD.bytesAllocated) !== recordSize) continue;
    if (!fileNames(first).some((name) => name.name === "$MFT")) continue;
    const mftLcn = firstCluster(first);
    const mirror = recordAt(disk, at + recordSize, recordSize, SYSTEM_RECORD.mirror);
    const mirrorLcn = firstCluster(mirror);
    if (mftLcn === null || mirrorLcn === null || mftLcn === mirrorLcn) return null;
    for (const clusterSize of CLUSTER_SIZES) {
      // The record found may be the table's own or its copy.
      for (const own of [true, false]) {
        const lcn: number = own ? mftLcn : mirrorLcn;
        const begins = at - lcn * clusterSize;
        if (begins < 0 || (start !== null && begins !== start)) continue;
        const other = begins + (own ? mirrorLcn : mftLcn) * clusterSize;
        const twin = recordAt(disk, other, recordSize, SYSTEM_RECORD.mft);
        if (!twin || firstCluster(twin) !== mftLcn) {
          // With the copy gone too, a start that is known must do.
          if (start === null || !own) continue;
        }
        const tableAt = begins + mftLcn * clusterSize;
        const clusters = clusterCount(disk, own ? at : tableAt, recordSize, clusterSize);
        if (clusters === null || clusters < 1 || clusters > ANY) continue;
        return {
          start: begins,
          geometry: {
            sectorSize: Math.min(512, clusterSize),
            clusterSize,
            clusters,
            mftLcn,
            mftMirrorLcn: mirrorLcn,
            recordSize,
            serial: "",
          },
        };
      }
    }
  }
  return null;
}

/** Bytes searched from the start of a volume for its first record; it mostly stands within the first clusters. */
const SEARCHED = 64 << 20;
const STEP = 1 << 20;

/** Searches a volume whose boot sectors are gone for the first record of its file table. */
export function searchGeometry(disk: ByteSource, start: number, length: number): Geometry | null {
  // Where makers usually put the table: at cluster 786432, whatever the cluster's size (common practice, no published source).
  for (const clusterSize of CLUSTER_SIZES) {
    const at = start + 786_432 * clusterSize;
    const found = at < start + length ? geometryFromRecords(disk, at, start) : null;
    if (found) return found.geometry;
  }
  const block = new Uint8Array(STEP);
  for (let at = 0; at < Math.min(length, SEARCHED); at += STEP) {
    disk.read(start + at, block);
    for (let inside = 0; inside < STEP; inside += 512) {
      if (block[inside] !== 0x46 || new Cursor(block).u32(inside) !== RECORD.magicValue) continue;
      const found = geometryFromRecords(disk, start + at + inside, start);
      if (found) return found.geometry;
    }
  }
  return null;
}
