import type { ByteSource } from "../core/bytes/byte-source";
import { KnownBadSource } from "../core/bytes/known-bad";
import { type Layout, LayoutSource } from "../core/bytes/layout";
import { decodeLayout, encodeLayout } from "../core/bytes/layout-code";
import type { FileAt } from "./folder-source";

/** A file on a volume whose bytes are needed to open a disk: a part of a split image, a parent of a differencing one. */
export interface InnerPart {
  readonly name: string;
  /** Where it stands: an encoded layout (`core/bytes/layout-code.ts`) in base64, counted on the disk its volume is on. */
  readonly layout: string;
}

/**
 * A file that holds a disk, inside a folder or on a volume: one step on the way to a disk inside another. It says where the bytes
 * stand, so that the volume around it need not be read again to open it.
 */
export interface InnerFile {
  /** On its volume or in its folder, for people; "/" first. */
  readonly path: string;
  /** Where it stands, as in `InnerPart`: on a volume, or, in a folder, in `file`; "": it is all of a file of a folder. */
  readonly layout: string;
  /** Of a folder: the file it is or stands in, as it was when its folder was read. */
  readonly file: FileAt | null;
  /** Whether nothing speaks against its bytes being its own; otherwise what the disk in it says of its files is not proven either. */
  readonly proven: boolean;
  /** Files of its own folder that were needed to open it. */
  readonly parts: readonly InnerPart[];
}

/** Disks inside disks: a deeper nest is a circle or an attack. */
export const MOST_WITHIN = 8;

/** Whether all the files a disk lies in are proven to be what they are said to be. */
export const isProvenWay = (within: readonly InnerFile[] = []): boolean => within.every(({ proven }) => proven);

export const packLayout = (layout: Layout): string => Buffer.from(encodeLayout(layout)).toString("base64");

/**
 * The bytes of a file on a volume, as those of a disk. Stretches that belong to other files now are none of its own: they come as zeros
 * and count as unreadable, like lost ones.
 */
export function readInner(disk: ByteSource, packed: string): ByteSource {
  const content = new LayoutSource(disk, decodeLayout(Buffer.from(packed, "base64")));
  return new KnownBadSource(content, content.foreign());
}
