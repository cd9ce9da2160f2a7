import { type PaxSparse, takeSparse } from "./tar-sparse";

const text = (bytes: Uint8Array) => new TextDecoder().decode(bytes);

/** Attributes that stand before an entry and are its own. */
export interface Ahead {
  path: string | null;
  link: string | null;
  size: number | null;
  modified: number | null;
  sparse: PaxSparse | null;
  /** The file that the next entry is the rest of (GNU tar manual, "Multi-volume archives"). */
  rest: { name: string; offset: number } | null;
}
export const NOTHING: Ahead = { path: null, link: null, size: null, modified: null, sparse: null, rest: null };

/** Reads the records of an extended header (POSIX.1-2017, pax, "pax Extended Header"): length, key, value. Broken off at the first one that is damaged. */
export function readPax(bytes: Uint8Array): Partial<Ahead> {
  const found: Partial<Ahead> = {};
  for (let at = 0; at < bytes.length; ) {
    const space = bytes.indexOf(0x20, at);
    const length = Number(text(bytes.subarray(at, space < 0 ? at : space)));
    if (space < 0 || !Number.isInteger(length) || length <= space - at || at + length > bytes.length) break;
    const record = text(bytes.subarray(space + 1, at + length - 1));
    const equals = record.indexOf("=");
    const [key, value] = [record.slice(0, equals), record.slice(equals + 1)];
    const number = Number(value);
    if (key.startsWith("GNU.sparse.")) {
      found.sparse ??= { numbers: [] };
      takeSparse(found.sparse, key, value);
    } else if (key === "GNU.volume.filename") found.rest = { offset: 0, ...found.rest, name: value };
    else if (key === "GNU.volume.offset" && Number.isSafeInteger(number) && number >= 0)
      found.rest = { name: "", ...found.rest, offset: number };
    else if (key === "path") found.path = value;
    else if (key === "linkpath") found.link = value;
    else if (key === "size" && Number.isSafeInteger(number) && number >= 0) found.size = number;
    else if (key === "mtime" && Number.isFinite(number)) found.modified = Math.floor(number * 1000);
    at += length;
  }
  return found;
}

/** Reads the names a folder had (GNU tar manual, "Dumpdir"): each with a letter that says whether it is in the archive, ended by a zero. */
export function readFolderList(bytes: Uint8Array): Set<string> {
  return new Set(
    text(bytes)
      .split("\0")
      .filter((name) => /^[YND]./s.test(name))
      .map((name) => name.slice(1)),
  );
}
