import { BlockReader } from "../../bytes/block-reader";
import type { ByteSource } from "../../bytes/byte-source";
import { isPageSize } from "../../formats/sqlite/page";

/** A page's image outside of the main file: what it was at some time. */
export interface PageImage {
  readonly page: number;
  /** Where its bytes begin in its file. */
  readonly at: number;
  readonly state: "committed" | "uncommitted" | "earlier";
  /** The transaction it is of, counted from the beginning of the file. */
  readonly transaction: number;
}

export interface Log {
  readonly pageSize: number;
  /** In the order of the file. */
  readonly frames: readonly PageImage[];
  /** Pages of the database after the last commit; null: nothing is committed in it. */
  readonly pages: number | null;
  /** Transactions of this round that came to an end and do not count: they, or what stands before them, are damaged. */
  readonly damaged: number;
}

const HEADER = 32;
const FRAME_HEADER = 24;
/** Frames that are looked at. */
const MOST_FRAMES = 1 << 22;

/**
 * Reads a write-ahead log frame by frame (SQLite file format 4.1 to 4.4). What is committed counts; frames behind the last commit, and those of
 * an earlier round (the log is written from its beginning again, with another salt), are evidence only.
 * @returns null when it is no log
 */
export function readLog(source: ByteSource): Log | null {
  if (source.size < HEADER) return null;
  const reader = new BlockReader(source);
  const mark = reader.u32be(0);
  const pageSize = reader.u32be(8);
  if ((mark !== 0x377f0682 && mark !== 0x377f0683) || !isPageSize(pageSize)) return null;
  const big = mark === 0x377f0683;
  const salt = reader.ascii(16, 8);
  let [s0, s1] = [0, 0];
  const sum = (at: number, length: number) => {
    const bytes = reader.bytes(at, length);
    const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.length);
    for (let i = 0; i < length; i += 8) {
      s0 = (s0 + view.getUint32(i, !big) + s1) >>> 0;
      s1 = (s1 + view.getUint32(i + 4, !big) + s0) >>> 0;
    }
  };
  sum(0, 24);
  let valid = reader.u32be(24) === s0 && reader.u32be(28) === s1;
  const frames: { page: number; at: number; state: PageImage["state"]; transaction: number }[] = [];
  let transaction = 0;
  let pages: number | null = null;
  let committed = 0;
  let damaged = 0;
  for (let at = HEADER; at + FRAME_HEADER + pageSize <= source.size && frames.length < MOST_FRAMES; at += FRAME_HEADER + pageSize) {
    const page = reader.u32be(at);
    const commit = reader.u32be(at + 4);
    const own = reader.ascii(at + 8, 8) === salt;
    if (valid) {
      sum(at, 8);
      sum(at + FRAME_HEADER, pageSize);
      valid = own && page > 0 && reader.u32be(at + 16) === s0 && reader.u32be(at + 20) === s1;
    }
    const unsalted = reader.u32be(at + 8) === 0 && reader.u32be(at + 12) === 0;
    const state = own || unsalted ? "uncommitted" : "earlier";
    if (page > 0 && page < 0x7fff_ffff) frames.push({ page, at: at + FRAME_HEADER, state, transaction });
    if (commit > 0) transaction += 1;
    if (own && commit > 0 && !valid) damaged += 1;
    if (valid && commit > 0) {
      pages = commit;
      committed = frames.length;
    }
  }
  for (const frame of frames.slice(0, committed)) frame.state = "committed";
  return { pageSize, frames, pages, damaged };
}
