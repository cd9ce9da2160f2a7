import type { BlockReader } from "../bytes/block-reader";
import { METHOD } from "../formats/zip/layout";
import { descriptorEnd, findDescriptor, type localMember, type ZipMember } from "../formats/zip/members";
import { decodeMember, isRead } from "./zip-codings";

/** A member with all that is known of it, and how its content stands. */
export interface SalvagedMember {
  /** null: neither its header nor its entry in the list of contents is there. */
  readonly member: ZipMember | null;
  /** Where its packed bytes begin; null: they are lost. */
  readonly dataAt: number | null;
  /** Packed bytes that are its own, and the plain ones they give. */
  readonly packed: number;
  readonly plain: number;
  /** Its checksum was compared and agrees; it does not agree; nothing was there to compare with; it was not looked at. */
  readonly checksum: "agrees" | "differs" | "none" | "unlooked";
  /** Plain bytes from its beginning that its packed bytes give. */
  readonly present: number;
  /** How long it is stands behind its data, and was not found there: `plain` and `present` say nothing. */
  readonly unsized?: true;
  /** By what it was found. */
  readonly by: "header" | "list" | "data" | "bytes";
}

/** A member whose header is there. */
export type Local = NonNullable<ReturnType<typeof localMember>>;

/** Judges a member whose header is there: by what that says, or by its entry in a list of contents, where one of them is damaged. */
export function judgeLocal(reader: BlockReader, local: Local, entry: ZipMember | null): SalvagedMember {
  const found = judgedBy(reader, local, entry);
  if (!entry || found.checksum === "agrees" || found.member?.encrypted) return found;
  const others = [
    ...(local.sized ? [judgedBy(reader, local, null)] : []),
    ...(entry.method === local.method ? [] : [judgedBy(reader, { ...local, method: entry.method }, entry)]),
  ];
  return others.find(({ checksum }) => checksum === "agrees") ?? found;
}

function judgedBy(reader: BlockReader, local: Local, entry: ZipMember | null): SalvagedMember {
  const { dataAt, method } = local;
  const stated = entry ?? (local.sized ? local : null);
  const member: ZipMember = {
    ...local,
    ...(entry ? { crc: entry.crc, packed: entry.packed, plain: entry.plain, utc: entry.utc ?? local.utc, marks: entry.marks } : {}),
  };
  const shared = { member, dataAt, by: "header" as const };
  const known = stated ? { packed: stated.packed, plain: stated.plain } : { packed: 0, plain: 0 };
  if (member.encrypted || !isRead(method)) {
    const found = stated ? null : findDescriptor(reader, dataAt);
    return { ...shared, ...(found ?? known), checksum: "none", present: 0 };
  }
  if (method === METHOD.stored) {
    const sizes = stated ? stated : findDescriptor(reader, dataAt);
    // Without a size the data end nowhere: nothing is claimed of them.
    if (!sizes) return { ...shared, packed: 0, plain: 0, checksum: "none", present: 0, unsized: true };
    const decoded = decodeMember(reader, method, dataAt, dataAt + sizes.packed, sizes.packed);
    const agrees = decoded.end !== null && decoded.crc === sizes.crc;
    return {
      ...shared,
      member: { ...member, crc: sizes.crc },
      packed: sizes.packed,
      plain: sizes.packed,
      checksum: agrees ? "agrees" : "differs",
      present: decoded.present,
    };
  }
  // Compressed data say themselves where they end: a damaged size in the header does not matter.
  const decoded = decodeMember(reader, method, dataAt, reader.size, stated?.plain ?? -1);
  const packed = (decoded.end ?? dataAt) - dataAt;
  if (decoded.end !== null) {
    const agrees = stated
      ? [entry, local].some((each) => each !== null && each.crc === decoded.crc && each.plain === decoded.present)
      : descriptorEnd(reader, { verdict: { verdict: "sound" }, end: decoded.end, packed, plain: decoded.present, crc: decoded.crc }) >= 0;
    if (agrees) return { ...shared, packed, plain: decoded.present, checksum: "agrees", present: decoded.present };
    if (!stated) return { ...shared, packed, plain: decoded.present, checksum: "none", present: decoded.present };
  }
  const plain = Math.max(stated?.plain ?? 0, decoded.present);
  return { ...shared, packed: Math.max(known.packed, packed), plain, checksum: "differs", present: Math.min(plain, decoded.present) };
}
