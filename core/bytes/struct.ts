import type { Cursor } from "./cursor";

/** A field of a structure on the disk: where it stands in it (bytes), and how it is read. */
export interface Field {
  readonly at: number;
  readonly read: (cursor: Cursor, at: number) => number;
}

const fields = (read: Field["read"]) => (at: number) => ({ at, read });

/** Big-endian fields, by their place in the structure. */
export const be = {
  u8: fields((cursor, at) => cursor.u8(at)),
  u16: fields((cursor, at) => cursor.u16be(at)),
  u32: fields((cursor, at) => cursor.u32be(at)),
  u64: fields((cursor, at) => cursor.u64be(at)),
} as const;

/** Little-endian fields, by their place in the structure. */
export const le = {
  u8: be.u8,
  u16: fields((cursor, at) => cursor.u16(at)),
  u32: fields((cursor, at) => cursor.u32(at)),
  u64: fields((cursor, at) => cursor.u64(at)),
} as const;

export type Values<Fields> = { readonly [Name in keyof Fields]: number };

/** A structure as its specification declares it. */
export interface Struct<Fields> {
  /** Bytes. */
  readonly size: number;
  /** Reads all fields of the structure that begins at a place. @throws PastEnd when the bytes end before it does */
  read(cursor: Cursor, at: number): Values<Fields>;
}

/** Declares a structure on the disk: its size in bytes and its fields, called as the specification calls them. */
export function struct<const Fields extends Readonly<Record<string, Field>>>(size: number, fields: Fields): Struct<Fields> {
  const all = Object.entries(fields);
  // Made from one that has all of its fields: objects that grow field by field take longer, and structures come by the million.
  const empty: Record<string, number> = Object.fromEntries(all.map(([name]) => [name, 0]));
  return {
    size,
    read(cursor, at) {
      const values = { ...empty };
      for (const [name, field] of all) values[name] = field.read(cursor, at + field.at);
      return values as Values<Fields>;
    },
  };
}
