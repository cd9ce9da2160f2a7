import * as compound from "cfb";
import { isShellLink, LINK_MARK, readShellLink, type ShellLink } from "./shell-link";

const MOST_LINKS = 5000;

/**
 * The links in a jump list. The automatic ones are a compound file ([MS-CFB]) in which each stream named by a number is a
 * shell link; the ones an application fills itself have links one after the other (common practice, no published source).
 */
export function readJumpList(bytes: Uint8Array): ShellLink[] {
  const found: ShellLink[] = [];
  const add = (piece: Uint8Array) => {
    const link = found.length < MOST_LINKS ? readShellLink(piece) : null;
    if (link) found.push(link);
  };
  for (const stream of streamsOf(bytes)) if (isShellLink(stream)) add(stream);
  if (found.length > 0) return found;
  for (let at = nextMark(bytes, 0); at >= 0; at = nextMark(bytes, at + LINK_MARK.length)) add(bytes.subarray(at));
  return found;
}

function streamsOf(bytes: Uint8Array): Uint8Array[] {
  if (bytes[0] !== 0xd0 || bytes[1] !== 0xcf) return [];
  try {
    const file = compound.read(bytes, { type: "array" });
    return file.FileIndex.filter((entry) => /^[0-9a-f]+$/i.test(entry.name) && entry.content?.length > 0).map((entry) =>
      Uint8Array.from(entry.content as ArrayLike<number>),
    );
  } catch {
    // Its chains are damaged: links that stand in one piece are still found by their beginning.
    return [];
  }
}

function nextMark(bytes: Uint8Array, from: number): number {
  for (let at = bytes.indexOf(0x4c, from); at >= 0; at = bytes.indexOf(0x4c, at + 1)) if (isShellLink(bytes, at)) return at;
  return -1;
}
