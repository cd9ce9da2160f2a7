import { createHash } from "node:crypto";
import { closeSync, constants, fstatSync, openSync, readSync } from "node:fs";

const STEP = 1 << 20;
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

/**
 * Hashes a file by reading it past the system's cache where that is possible, and says whether it was. What was written must have been
 * synced before.
 * @throws the system's error when it cannot be read
 */
export function readBack(path: string): ReadBack {
  const before = bytesFromDevices();
  const direct = constants.O_DIRECT === undefined ? null : hashDirectly(path);
  const { sha256, size } = direct ?? hashFile(path, constants.O_RDONLY);
  const after = bytesFromDevices();
  return { sha256, fromDevice: before !== null && after !== null && after - before >= size };
}

/** null: the file system has no way past its cache. */
function hashDirectly(path: string): { sha256: string; size: number } | null {
  try {
    return hashFile(path, constants.O_RDONLY | constants.O_DIRECT);
  } catch (error) {
    if (NOT_DIRECT.has((error as NodeJS.ErrnoException).code ?? "")) return null;
    throw error;
  }
}

/** What file systems answer that only read through their cache (open(2)). */
const NOT_DIRECT: ReadonlySet<string> = new Set(["EINVAL", "ENOTSUP", "EOPNOTSUPP"]);

function hashFile(path: string, flags: number): { sha256: string; size: number } {
  const file = openSync(path, flags | constants.O_NOFOLLOW | constants.O_NONBLOCK);
  const hash = createHash("sha256");
  const into = pageAligned();
  try {
    let size = 0;
    let got: number;
    do {
      got = readSync(file, into, 0, into.length, size);
      hash.update(into.subarray(0, got));
      size += got;
    } while (got === into.length || (got > 0 && size < fstatSync(file).size));
    return { sha256: hash.digest("hex"), size };
  } finally {
    closeSync(file);
  }
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
