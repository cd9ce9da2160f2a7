import { statSync } from "node:fs";
import { CachedSource, readBytes } from "../core/bytes/byte-source";
import { text } from "../core/formats/text";
import { type DiskReport, inspectDisk } from "../core/inspect";
import { ReadOnlyFile } from "./read-only-file";

/** A source cannot be used. The message says why and what to do. */
export class SourceError extends Error {
  constructor(message: string) {
    super(message);
    this.name = "SourceError";
  }
}

export interface OpenedDisk {
  readonly disk: CachedSource;
  close(): void;
}

export interface OpenedSource extends OpenedDisk {
  readonly report: DiskReport;
}

/** Opens the bytes of a disk for reading only, without looking at what is on it. @throws SourceError when it cannot be opened */
export function openDisk(path: string): OpenedDisk {
  const file = openFile(path);
  return { disk: new CachedSource(file), close: () => file.close() };
}

/** Opens an image for reading only. @throws SourceError when it is missing, unreadable, or no image at all */
export function openSource(path: string): OpenedSource {
  const opened = openDisk(path);
  const { disk } = opened;
  const report = inspectDisk(disk);
  const nothing = report.volumes.every((volume) => volume.filesystem === "unknown") && report.table === "none";
  if (disk.size === 0 || (nothing && text.recognise(readBytes(disk, 0, Math.min(4096, disk.size))))) {
    opened.close();
    throw new SourceError(disk.size === 0 ? `${path} is empty.` : `${path} is a text file, not the image of a drive or volume.`);
  }
  return { disk, report, close: opened.close };
}

function openFile(path: string): ReadOnlyFile {
  if (statSync(path, { throwIfNoEntry: false })?.isDirectory())
    throw new SourceError(`${path} is a folder; choose the image of a drive or volume in it.`);
  try {
    return new ReadOnlyFile(path);
  } catch (error) {
    const { code } = error as NodeJS.ErrnoException;
    if (code === "ENOENT" || code === "ENOTDIR")
      throw new SourceError(`${path} is not there. Check that the drive is connected and the path is right.`);
    if (code === "EACCES" || code === "EPERM")
      throw new SourceError(`${path} may not be read by this user. Change its permissions or run as a user who may.`);
    throw new SourceError(`${path} cannot be opened: ${(error as Error).message}.`);
  }
}
