import { createHash } from "node:crypto";
import { closeSync, constants, fstatSync, openSync, readSync } from "node:fs";

/** Bytes read, and compared, at a time. */
export const STEP = 1 << 20;
const PAGE = 64 << 10;

/** A file's hash as it was read again. */
export interface ReadBack {
  /** Hexadecimal. */
  readonly sha256: string;
  /** Whether the system itself counted the bytes as read from the device, and not from its memory. */
  readonly fromDevice: boolean;
}

/** Memory that begins at a page, as reads past the system's cache need it (open(2), O_DIRECT). */
let block: Uint8Array | undefined;
const pageAligned = () => (block ??= new Uint8Array(new WebAssembly.Memory({ initial: STEP / PAGE }).buffer));

/** What was written into a file that is read again. */
export interface Written {
  /** Hexadecimal. */
  readonly sha256: string;
  /** Its bytes, a step of `STEP` bytes each, the last one shorter; null: they are not at hand. */
  readonly parts: readonly Uint8Array[] | null;
}

/**
 * Hashes a file by reading it past the system's cache where that is possible, and says whether it was. What was written must have been
 * synced before.
 * @param written its bytes are compared where they are at hand: a file that has all of them, and no others, has their hash
 * @throws the system's error when it cannot be read
 */
export function readBack(path: string, written: Written | null = null): ReadBack {
  const before = bytesFromDevices();
  const direct = constants.O_DIRECT === undefined ? null : hashDirectly(path, written);
  const { sha256, size } = direct ?? hashFile(path, constants.O_RDONLY, written);
  const after = bytesFromDevices();
  return { sha256, fromDevice: before !== null && after !== null && after - before >= size };
}

/** null: the file system has no way past its cache. */
function hashDirectly(path: string, written: Written | null): { sha256: string; size: number } | null {
  try {
    return hashFile(path, constants.O_RDONLY | constants.O_DIRECT, written);
  } catch (error) {
    if (NOT_DIRECT.has((error as NodeJS.ErrnoException).code ?? "")) return null;
    throw error;
  }
}

/** What file systems answer that only read through their cache (open(2)). */
const NOT_DIRECT: ReadonlySet<string> = new Set(["EINVAL", "ENOTSUP", "EOPNOTSUPP"]);

function hashFile(path: string, flags: number, written: Written | null): { sha256: string; size: number } {
  const file = openSync(path, flags | constants.O_NOFOLLOW | constants.O_NONBLOCK);
  try {
    const same = written?.parts ? holds(file, written.parts) : null;
    if (written && same !== null) return { sha256: written.sha256, size: same };
    const hash = createHash("sha256");
    const size = readThrough(file, (part) => {
      hash.update(part);
      return true;
    });
    return { sha256: hash.digest("hex"), size: size as number };
  } finally {
    closeSync(file);
  }
}

/** Whether a file holds these bytes and no others: its size; null: it does not. */
function holds(file: number, parts: readonly Uint8Array[]): number | null {
  let at = 0;
  const size = readThrough(file, (part) => {
    const expected = parts[at++] ?? NOTHING;
    return part.length === expected.length && Buffer.compare(part, expected) === 0;
  });
  return at === parts.length ? size : null;
}

const NOTHING = new Uint8Array();

/**
 * Reads a file from its beginning to its end, a step at a time. The bytes are given in memory that is used again.
 * @param use whether it is to go on; false ends it
 * @returns its size; null: it was ended
 */
function readThrough(file: number, use: (part: Uint8Array) => boolean): number | null {
  const into = pageAligned();
  let size = 0;
  let got: number;
  do {
    got = readSync(file, into, 0, into.length, size);
    if (got > 0 && !use(into.subarray(0, got))) return null;
    size += got;
  } while (got === into.length || (got > 0 && size < fstatSync(file).size));
  return size;
}

/**
 * The counters of this thread (proc(5), io), held open: reading them again from the beginning gives the present ones. Each thread has its own
 * instance of this module.
 */
let counters: number | undefined;
const COUNTERS_LENGTH = 1024;
const countersText = Buffer.alloc(COUNTERS_LENGTH);

/** Bytes this thread has had fetched from devices so far, as the system counts them; null: it does not say. */
function bytesFromDevices(): number | null {
  try {
    counters ??= openSync("/proc/thread-self/io", constants.O_RDONLY);
    const text = countersText.toString("latin1", 0, readSync(counters, countersText, 0, COUNTERS_LENGTH, 0));
    const counted = /^read_bytes: (\d+)$/m.exec(text)?.[1];
    return counted === undefined ? null : Number(counted);
  } catch {
    return null;
  }
}

/** Reads the first bytes of a plain file; links are not followed. @returns fewer where the file is shorter */
export function readHead(path: string, length: number): Buffer {
  const file = openSync(path, constants.O_RDONLY | constants.O_NOFOLLOW);
  try {
    const head = Buffer.alloc(length);
    return head.subarray(0, readSync(file, head, 0, length, 0));
  } finally {
    closeSync(file);
  }
}
