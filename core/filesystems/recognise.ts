import { type ByteSource, readBytes } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";
import type { FileSystemKind, Recognised } from "./file-system-kind";
import { FILE_SYSTEMS } from "./registry";

const NOTHING: Recognised = { filesystem: "unknown", length: null, clusterSize: null, label: null };
const HEAD = 2048;
const SMALLEST = 1536;

/** The first answer that one of the file systems gives. */
function firstAnswer(ask: (kind: FileSystemKind) => Recognised | null | undefined): Recognised | null {
  for (const kind of FILE_SYSTEMS) {
    const answer = ask(kind);
    if (answer) return answer;
  }
  return null;
}

/** Says which file system starts at a volume's first byte, by its first sectors, or by the copies of them that it keeps elsewhere. */
export function recogniseFileSystem(volume: ByteSource): Recognised {
  const head = new Cursor(readBytes(volume, 0, HEAD));
  if (volume.size < SMALLEST) return firstAnswer((kind) => (kind.mayBeSmall ? kind.recognise(head) : null)) ?? NOTHING;
  return firstAnswer((kind) => kind.recognise(head)) ?? firstAnswer((kind) => kind.recogniseCopy?.(volume)) ?? NOTHING;
}

/** Says which backup file or archive a whole disk is whose beginning is lost or damaged. */
export const recogniseRemains = (disk: ByteSource): Recognised => firstAnswer((kind) => kind.recogniseRemains?.(disk)) ?? NOTHING;

/** Says which file system a stretch of a disk holds whose boot sectors are all gone, by its records. */
export const recogniseByRecords = (disk: ByteSource, start: number, length: number): Recognised =>
  firstAnswer((kind) => kind.recogniseRecords?.(disk, start, length)) ?? NOTHING;
