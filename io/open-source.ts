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

export interface OpenedSource {
  readonly disk: CachedSource;
  readonly report: DiskReport;
  close(): void;
}

/** Opens an image for reading only. @throws SourceError when it is missing, unreadable, or no image at all */
export function openSource(path: string): OpenedSource {
  const file = openFile(path);
  const disk = new CachedSource(file);
  const report = inspectDisk(disk);
  const nothing = report.volumes.every((volume) => volume.filesystem === "unknown") && report.table === "none";
  if (file.size === 0 || (nothing && text.recognise(readBytes(disk, 0, Math.min(4096, file.size))))) {
    file.close();
    throw new SourceError(file.size === 0 ? `${path} is empty.` : `${path} is a text file, not the image of a drive or volume.`);
  }
  return { disk, report, close: () => file.close() };
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
