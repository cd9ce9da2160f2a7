/** What the system says in codes when something is written (errno(3)), in a sentence that says what to do. */
const SENTENCES: Readonly<Record<string, string>> = {
  ENOSPC: "The destination is full: make room there, or choose another device, and try again.",
  EDQUOT: "The destination has no more room for this user: make room there, and try again.",
  EROFS: "The destination can only be read: choose another device, or mount it for writing, and try again.",
  EACCES: "This user may not write there: change the folder’s permissions, or choose another, and try again.",
  EPERM: "The destination does not allow this: change its permissions, or choose another, and try again.",
  EFBIG: "The destination’s file system does not take files of this size: choose another device.",
  ENAMETOOLONG: "Its name or folder is too long for the destination.",
  EIO: "The destination device reports errors when it is written to or read again: it may be failing. Choose another.",
  ENODEV: "The destination device is gone: connect it again, and try again.",
  ENXIO: "The destination device is gone: connect it again, and try again.",
  ENOTCONN: "The connection to the destination is gone: connect it again, and try again.",
  ESTALE: "The connection to the destination is gone: connect it again, and try again.",
  ENOENT: "The destination is not there any more: connect its device again, and try again.",
  ENOTDIR: "A file is in the way of a folder of the destination: choose another folder, or move the file.",
  EXDEV: "A folder in the destination lies on another device: restore into it as a destination of its own.",
  EMFILE: "Too many files are open at once on this computer: try again when less is running.",
};

/** What keeps everything from being written for now: the destination is full, or it is gone. */
export type WritingStop = "full" | "gone";
const STOPS: Readonly<Record<string, WritingStop>> = {
  ENOSPC: "full",
  EDQUOT: "full",
  ENODEV: "gone",
  ENXIO: "gone",
  ENOTCONN: "gone",
  ESTALE: "gone",
  ENOENT: "gone",
};

/** Whether an error met while writing would meet every other file as well, until something is done; null: it is of this file. */
export const stopsWriting = (error: unknown): WritingStop | null => STOPS[(error as NodeJS.ErrnoException).code ?? ""] ?? null;

/** Describes an error met while writing, for a person; errors without a known code keep their own words. */
export function describeWriteError(error: unknown): string {
  const { code, message } = error as NodeJS.ErrnoException;
  return SENTENCES[code ?? ""] ?? message;
}
