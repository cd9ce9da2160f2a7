import { Cursor } from "../bytes/cursor";
import { decodeUtf16le } from "../bytes/text";
import { filetimeToMs } from "../bytes/times";

/** What a shell link holds about the file it leads to. Times in UTC milliseconds. */
export interface ShellLink {
  /** As the link has it, for instance `C:\folder\name.ext` or `\\server\share\name.ext`. */
  readonly target: string;
  readonly directory: boolean;
  /** Bytes; the low 32 bits of the real size. */
  readonly size: number;
  readonly created: number | null;
  readonly modified: number | null;
  /** Of the volume the file was on; null where the link does not say. */
  readonly serial: number | null;
  readonly label: string | null;
}

/** [MS-SHLLINK] 2.1 ShellLinkHeader. */
const HEADER = {
  size: 0x4c,
  flags: 0x14,
  attributes: 0x18,
  created: 0x1c,
  written: 0x2c,
  fileSize: 0x34,
} as const;
/** Size of the header, then the class of links, as they stand in each. */
export const LINK_MARK = Uint8Array.from([0x4c, 0, 0, 0, 0x01, 0x14, 0x02, 0, 0, 0, 0, 0, 0xc0, 0, 0, 0, 0, 0, 0, 0x46]);
const FLAG = { idList: 1, linkInfo: 2, name: 4, relativePath: 8, workingDir: 16, unicode: 128 } as const;
const DIRECTORY = 0x10;
/** [MS-SHLLINK] 2.3 LinkInfo and 2.3.1 VolumeID. */
const INFO = {
  headerSize: 4,
  flags: 8,
  volumeId: 12,
  localBase: 16,
  network: 20,
  suffix: 24,
  localBaseUnicode: 28,
  suffixUnicode: 32,
} as const;
const INFO_FLAG = { local: 1, network: 2 } as const;
const UNICODE_HEADER = 0x24;
const VOLUME = { serial: 8, label: 12, labelUnicode: 16 } as const;
const NET_NAME = 8;
const LONGEST = 4096;

/** Whether these bytes begin a shell link. */
export function isShellLink(bytes: Uint8Array, at = 0): boolean {
  return at + HEADER.size <= bytes.length && LINK_MARK.every((byte, i) => bytes[at + i] === byte);
}

/** Reads a shell link ([MS-SHLLINK], "Shell Link Binary File Format"). @returns null when it is none, or gives no path */
export function readShellLink(bytes: Uint8Array): ShellLink | null {
  if (!isShellLink(bytes)) return null;
  const cursor = new Cursor(bytes);
  const flags = cursor.u32(HEADER.flags);
  let at: number = HEADER.size;
  if ((flags & FLAG.idList) !== 0 && at + 2 <= bytes.length) at += 2 + cursor.u16(at);
  const info = (flags & FLAG.linkInfo) !== 0 && at + 28 <= bytes.length ? readInfo(bytes.subarray(at)) : null;
  if (info) at += info.size;
  const target = info?.target ?? relativeTarget(bytes, at, flags);
  if (!target) return null;
  const time = (place: number) => filetimeToMs(cursor.u32(place), cursor.u32(place + 4));
  return {
    target,
    directory: (cursor.u32(HEADER.attributes) & DIRECTORY) !== 0,
    size: cursor.u32(HEADER.fileSize),
    created: time(HEADER.created),
    modified: time(HEADER.written),
    serial: info?.serial ?? null,
    label: info?.label ?? null,
  };
}

interface LinkInfo {
  readonly size: number;
  readonly target: string | null;
  readonly serial: number | null;
  readonly label: string | null;
}

function readInfo(bytes: Uint8Array): LinkInfo | null {
  const whole = new Cursor(bytes);
  const size = whole.u32(0);
  if (size < 28 || size > bytes.length) return null;
  const info = new Cursor(bytes.subarray(0, size));
  const flags = info.u32(INFO.flags);
  const unicode = info.u32(INFO.headerSize) >= UNICODE_HEADER && size >= UNICODE_HEADER;
  const text = (plain: number, wide: number): string => {
    const at = unicode ? info.u32(wide) : 0;
    return at > 0 ? wideText(info, at) : plainText(info, info.u32(plain));
  };
  const suffix = text(INFO.suffix, INFO.suffixUnicode);
  if ((flags & INFO_FLAG.local) !== 0) {
    const volume = info.u32(INFO.volumeId);
    const sound = volume > 0 && volume + 16 <= size;
    const labelAt = sound ? info.u32(volume + VOLUME.label) : 0;
    const label = !sound
      ? ""
      : labelAt === 0x14 && volume + 20 <= size
        ? wideText(info, volume + info.u32(volume + VOLUME.labelUnicode))
        : plainText(info, volume + labelAt);
    const base = text(INFO.localBase, INFO.localBaseUnicode);
    return { size, target: base + suffix || null, serial: sound ? info.u32(volume + VOLUME.serial) : null, label: label || null };
  }
  const network = info.u32(INFO.network);
  if ((flags & INFO_FLAG.network) !== 0 && network > 0 && network + 20 <= size) {
    const share = plainText(info, network + info.u32(network + NET_NAME));
    return { size, target: share ? `${share}${suffix ? `\\${suffix}` : ""}` : null, serial: null, label: null };
  }
  return { size, target: null, serial: null, label: null };
}

/** [MS-SHLLINK] 2.4 StringData: a working folder and the relative path's last part make up a path where LinkInfo has none. */
function relativeTarget(bytes: Uint8Array, start: number, flags: number): string | null {
  const cursor = new Cursor(bytes);
  const wide = (flags & FLAG.unicode) !== 0;
  const found: Record<number, string> = {};
  let at = start;
  for (const flag of [FLAG.name, FLAG.relativePath, FLAG.workingDir]) {
    if ((flags & flag) === 0) continue;
    if (at + 2 > bytes.length) return null;
    const length = cursor.u16(at) * (wide ? 2 : 1);
    if (at + 2 + length > bytes.length) return null;
    const raw = cursor.slice(at + 2, length);
    found[flag] = wide ? decodeUtf16le(raw) : ansi.decode(raw);
    at += 2 + length;
  }
  const name = found[FLAG.relativePath]?.split("\\").pop();
  return name && found[FLAG.workingDir] ? `${found[FLAG.workingDir]}\\${name}` : null;
}

/** The code page is that of the computer the link was made on, which nothing says; the commonest one is taken. */
const ansi = new TextDecoder("windows-1252");

function plainText(cursor: Cursor, at: number): string {
  if (at <= 0 || at >= cursor.size) return "";
  const end = cursor.bytes.indexOf(0, at);
  return ansi.decode(cursor.bytes.subarray(at, Math.min(end < 0 ? cursor.size : end, at + LONGEST)));
}

function wideText(cursor: Cursor, at: number): string {
  let end = at;
  while (end + 1 < cursor.size && end - at < LONGEST * 2 && cursor.u16(end) !== 0) end += 2;
  return at > 0 && at < cursor.size ? decodeUtf16le(cursor.bytes.subarray(at, end)) : "";
}
