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
  const direct = constants.O_DIRECT === undefined ? null : readDirectly(path, written);
  return direct ?? readAll(path, constants.O_RDONLY, written);
}

/** null: the file system has no way past its cache. */
function readDirectly(path: string, written: Written | null): ReadBack | null {
  try {
    return readAll(path, constants.O_RDONLY | constants.O_DIRECT, written);
  } catch (error) {
    if (NOT_DIRECT.has((error as NodeJS.ErrnoException).code ?? "")) return null;
    throw error;
  }
}

/** What file systems answer that only read through their cache (open(2)). */
const NOT_DIRECT: ReadonlySet<string> = new Set(["EINVAL", "ENOTSUP", "EOPNOTSUPP"]);

function readAll(path: string, flags: number, written: Written | null): ReadBack {
  const file = openSync(path, flags | constants.O_NOFOLLOW | constants.O_NONBLOCK);
  try {
    return (written?.parts && holding(file, { ...written, parts: written.parts })) ?? hashed(file);
  } finally {
    closeSync(file);
  }
}

function hashed(file: number): ReadBack {
  const hash = createHash("sha256");
  const before = bytesFromDevices();
  const size = readThrough(file, (part) => {
    hash.update(part);
    return true;
  });
  return { sha256: hash.digest("hex"), fromDevice: cameFromDevice(before, size as number) };
}

/** Reads a file that is to hold what was written into it. null: it does not. */
function holding(file: number, { sha256, parts }: { sha256: string; parts: readonly Uint8Array[] }): ReadBack | null {
  let at = 0;
  const before = bytesFromDevices();
  const size = readThrough(file, (part) => Buffer.compare(part, parts[at++] ?? NOTHING) === 0);
  return size !== null && at === parts.length ? { sha256, fromDevice: cameFromDevice(before, size) } : null;
}

/** Whether all bytes of one reading were fetched from the device. What an earlier reading of the same file fetched does not count for a later one. */
function cameFromDevice(before: number | null, size: number): boolean {
  const after = bytesFromDevices();
  return before !== null && after !== null && after - before >= size;
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
