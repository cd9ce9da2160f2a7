import type { ByteSource } from "../../bytes/byte-source";
import { readBytes } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import { type Layout, LayoutSource } from "../../bytes/layout";
import { decodeUtf16le, pathComponent } from "../../bytes/text";
import { type MftReference, readReference, readTime } from "./mft-record";

/** USN_RECORD_V2 ([MS-FSCC] 2.3.71): the journal keeps a record for each change, in pages none of them crosses. */
const USN = { length: 0, major: 4, reference: 8, parent: 16, time: 32, reason: 40, nameLength: 56, nameOffset: 58, smallest: 60 } as const;
const REASON = { deleted: 0x200, oldName: 0x1000 } as const;
const PAGE = 4096;
const STEP = 1 << 20;
const MAX_BYTES = 1 << 30;
const MAX_EVENTS = 2_000_000;

/** Where the journal stands: a named stream of this file in the folder of the system's own extras. */
export const JOURNAL = { file: "$UsnJrnl", stream: "$J" } as const;

interface Event {
  readonly sequence: number;
  /** UTC milliseconds. */
  readonly at: number;
  /** The name it had before; null: the file was deleted. */
  readonly oldName: string | null;
}

/** What the change journal holds about deletions and earlier names. */
export class ChangeJournal {
  readonly #events = new Map<number, Event[]>();
  #count = 0;

  constructor(disk: ByteSource, layout: Layout) {
    const source = new LayoutSource(disk, layout);
    let at = 0;
    let read = 0;
    // The journal's beginning is a hole that grows; only what is stored is read.
    for (const segment of layout.segments) {
      if (segment.kind === "disk" || segment.kind === "held") {
        for (let done = 0; done < segment.length && read < MAX_BYTES; done += STEP) {
          const length = Math.min(STEP, segment.length - done);
          this.#readPages(readBytes(source, at + done, length));
          read += length;
        }
      }
      at += segment.length;
    }
  }

  /** When the file of this record and number was deleted. */
  deletedAt({ record, sequence }: MftReference): number | null {
    return this.#events.get(record)?.findLast((event) => event.oldName === null && event.sequence === sequence)?.at ?? null;
  }

  /** Names the file bore before, the latest last. */
  oldNames({ record, sequence }: MftReference): { name: string; at: number }[] {
    return (this.#events.get(record) ?? []).flatMap((event) =>
      event.oldName !== null && event.sequence === sequence ? [{ name: event.oldName, at: event.at }] : [],
    );
  }

  #readPages(bytes: Uint8Array): void {
    const cursor = new Cursor(bytes);
    for (let page = 0; page < bytes.length; page += PAGE) {
      const end = Math.min(bytes.length, page + PAGE);
      for (let at = page; at + USN.smallest <= end && this.#count < MAX_EVENTS; ) {
        const length = cursor.u32(at + USN.length);
        if (length < USN.smallest || length % 8 !== 0 || at + length > end) break;
        if (cursor.u16(at + USN.major) === 2) this.#note(cursor, at, length);
        at += length;
      }
    }
  }

  #note(cursor: Cursor, at: number, length: number): void {
    const reason = cursor.u32(at + USN.reason);
    if ((reason & (REASON.deleted | REASON.oldName)) === 0) return;
    const time = readTime(cursor, at + USN.time);
    const nameLength = cursor.u16(at + USN.nameLength);
    const nameOffset = cursor.u16(at + USN.nameOffset);
    if (time === null || nameOffset + nameLength > length) return;
    const { record, sequence } = readReference(cursor, at + USN.reference);
    const oldName = (reason & REASON.deleted) !== 0 ? null : pathComponent(decodeUtf16le(cursor.slice(at + nameOffset, nameLength)));
    const known = this.#events.get(record);
    if (known) known.push({ sequence, at: time, oldName });
    else this.#events.set(record, [{ sequence, at: time, oldName }]);
    this.#count += 1;
  }
}
