import type { Cursor } from "../../bytes/cursor";
import { ATTRIBUTE } from "./layout";
import type { Attribute } from "./mft-record";

/** A file in more pieces than this does not occur; a damaged list might claim it. */
const MAX_RUNS = 1 << 20;

/** Clusters `vcn` … of a file stand at cluster `lcn` of the volume; null is a hole. */
export interface Run {
  readonly vcn: number;
  readonly lcn: number | null;
  /** Clusters. */
  readonly length: number;
}

/**
 * Decodes the mapping pairs of a non-resident attribute (ntfs-3g `runlist.c` describes the coding): a byte with the
 * widths of two numbers, the run's length, and the signed step from the last run's cluster; width 0 is a hole.
 * @param clusters clusters on the volume: a run outside ends the list
 */
export function readRuns(cursor: Cursor, attribute: Attribute, clusters: number): { runs: Run[]; sound: boolean } {
  const end = attribute.at + attribute.length;
  let at = attribute.at + cursor.u16(attribute.at + ATTRIBUTE.mappingPairsOffset);
  let vcn = cursor.u64(attribute.at + ATTRIBUTE.lowestVcn);
  let lcn = 0;
  const runs: Run[] = [];
  while (at < end && runs.length < MAX_RUNS) {
    const widths = cursor.u8(at);
    if (widths === 0) return { runs, sound: true };
    const lengthWidth = widths & 0x0f;
    const offsetWidth = widths >>> 4;
    if (lengthWidth === 0 || lengthWidth > 8 || offsetWidth > 8 || at + 1 + lengthWidth + offsetWidth > end) break;
    const length = readSigned(cursor, at + 1, lengthWidth);
    if (length <= 0 || length > Number.MAX_SAFE_INTEGER) break;
    if (offsetWidth === 0) {
      runs.push({ vcn, lcn: null, length });
    } else {
      lcn += readSigned(cursor, at + 1 + lengthWidth, offsetWidth);
      if (lcn < 0 || lcn + length > clusters) break;
      runs.push({ vcn, lcn, length });
    }
    vcn += length;
    at += 1 + lengthWidth + offsetWidth;
  }
  return { runs, sound: false };
}

/** A little-endian two's-complement number of 1 to 8 bytes. */
function readSigned(cursor: Cursor, at: number, width: number): number {
  let value = 0;
  for (let i = width - 1; i >= 0; i -= 1) value = value * 256 + cursor.u8(at + i);
  return cursor.u8(at + width - 1) >= 0x80 ? value - 2 ** (8 * width) : value;
}
