import { Cursor } from "./cursor";

/**
 * 16 bytes as a GUID in text. The first three fields are little-endian, the rest are in byte order
 * (UEFI Specification, appendix A).
 */
export function guidText(bytes: Uint8Array): string {
  const cursor = new Cursor(bytes);
  const hex = (value: number, digits: number) => value.toString(16).padStart(digits, "0");
  const tail = [...cursor.slice(8, 8)].map((byte) => hex(byte, 2)).join("");
  return `${hex(cursor.u32(0), 8)}-${hex(cursor.u16(4), 4)}-${hex(cursor.u16(6), 4)}-${tail.slice(0, 4)}-${tail.slice(4)}`.toUpperCase();
}

/** 16 bytes as a UUID in text, all fields in byte order (RFC 9562, 4). */
export function guidTextBe(bytes: Uint8Array): string {
  const text = [...bytes.subarray(0, 16)].map((byte) => byte.toString(16).padStart(2, "0")).join("");
  return text.replace(/^(.{8})(.{4})(.{4})(.{4})(.{12})$/, "$1-$2-$3-$4-$5").toUpperCase();
}
