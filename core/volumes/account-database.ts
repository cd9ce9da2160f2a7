import { Cursor } from "../bytes/cursor";
import { PastEnd } from "../bytes/past-end";
import { decodeUtf16le } from "../bytes/text";

/**
 * The registry's hive file, all little-endian, after the open documentation of the format (the offsets from memory): a base
 * block, then cells counted from the end of it; a cell begins with its length, negative when in use.
 */
const BASE = { magic: "regf", rootCell: 0x24, size: 0x1000 } as const;
const KEY = {
  magic: "nk",
  subkeys: 0x14,
  subkeyList: 0x1c,
  values: 0x24,
  valueList: 0x28,
  nameLength: 0x48,
  flags: 0x02,
  name: 0x4c,
  ascii: 0x20,
} as const;
const VALUE = { magic: "vk", nameLength: 0x02, dataLength: 0x04, data: 0x08, name: 0x14, held: 0x80000000 } as const;
const MOST_KEYS = 20_000;
const MAX_DEPTH = 8;

/** Where the accounts stand in their database, and what of an account is read (from memory). */
const USERS = ["SAM", "Domains", "Account", "Users"] as const;
const ACCOUNT = { fixed: "F", flags: 0x38, disabled: 0x0001, variable: "V", nameOffset: 0x0c, nameLength: 0x10, variableAt: 0xcc } as const;

export interface Account {
  readonly name: string;
  /** The last part of the account's identity; 1000 and more for those that people made. */
  readonly number: number;
  readonly disabled: boolean;
}

class Hive {
  readonly #cursor: Cursor;

  constructor(bytes: Uint8Array) {
    this.#cursor = new Cursor(bytes);
  }

  /** The cell at an offset, without its length; null when it does not fit. */
  cell(offset: number): Cursor | null {
    const at = BASE.size + offset;
    if (offset < 0 || at + 8 > this.#cursor.size) return null;
    const length = -(this.#cursor.u32(at) | 0);
    return length >= 8 && at + length <= this.#cursor.size ? new Cursor(this.#cursor.slice(at + 4, length - 4)) : null;
  }

  root(): Cursor | null {
    if (this.#cursor.size < BASE.size || String.fromCharCode(...this.#cursor.slice(0, 4)) !== BASE.magic) return null;
    return this.#key(this.#cursor.u32(BASE.rootCell));
  }

  child(key: Cursor, name: string): Cursor | null {
    return this.children(key).find((each) => each.name.toLowerCase() === name.toLowerCase())?.key ?? null;
  }

  children(key: Cursor): { name: string; key: Cursor }[] {
    const found: { name: string; key: Cursor }[] = [];
    if (key.u32(KEY.subkeys) > 0) this.#list(key.u32(KEY.subkeyList), found, 0);
    return found;
  }

  value(key: Cursor, name: string): Cursor | null {
    const list = this.cell(key.u32(KEY.valueList));
    for (let i = 0; list && i < Math.min(key.u32(KEY.values), list.size / 4); i += 1) {
      const value = this.cell(list.u32(i * 4));
      if (!value || mark(value) !== VALUE.magic) continue;
      const nameLength = value.u16(VALUE.nameLength);
      if (String.fromCharCode(...value.slice(VALUE.name, nameLength)) !== name) continue;
      const length = value.u32(VALUE.dataLength);
      if (length >= VALUE.held) return new Cursor(value.slice(VALUE.data, Math.min(4, length - VALUE.held)));
      const data = this.cell(value.u32(VALUE.data));
      return data && length <= data.size ? new Cursor(data.slice(0, length)) : null;
    }
    return null;
  }

  #key(offset: number): Cursor | null {
    const cell = this.cell(offset);
    return cell && cell.size > KEY.name && mark(cell) === KEY.magic ? cell : null;
  }

  /** Lists of keys come in four forms; one of them is a list of lists. */
  #list(offset: number, found: { name: string; key: Cursor }[], depth: number): void {
    const list = this.cell(offset);
    if (!list || depth > MAX_DEPTH) return;
    const kind = mark(list);
    const width = kind === "lf" || kind === "lh" ? 8 : 4;
    for (let i = 0; i < list.u16(2) && 4 + (i + 1) * width <= list.size && found.length < MOST_KEYS; i += 1) {
      const at = list.u32(4 + i * width);
      if (kind === "ri") this.#list(at, found, depth + 1);
      else {
        const key = this.#key(at);
        if (key) found.push({ name: keyName(key), key });
      }
    }
  }
}

const mark = (cell: Cursor) => String.fromCharCode(cell.u8(0), cell.u8(1));

function keyName(key: Cursor): string {
  const bytes = key.slice(KEY.name, Math.min(key.u16(KEY.nameLength), key.size - KEY.name));
  return (key.u16(KEY.flags) & KEY.ascii) !== 0 ? String.fromCharCode(...bytes) : decodeUtf16le(bytes);
}

/** The accounts of a system's account database; none when it cannot be followed. Passwords and what protects them are not looked at. */
export function readAccounts(bytes: Uint8Array): Account[] {
  try {
    const hive = new Hive(bytes);
    let key = hive.root();
    for (const name of USERS) key = key && hive.child(key, name);
    if (!key) return [];
    return hive.children(key).flatMap(({ name, key: user }) => {
      if (!/^[0-9A-F]{8}$/i.test(name)) return [];
      const fixed = hive.value(user, ACCOUNT.fixed);
      const variable = hive.value(user, ACCOUNT.variable);
      if (!fixed || !variable || fixed.size < ACCOUNT.flags + 2) return [];
      const text = variable.slice(ACCOUNT.variableAt + variable.u32(ACCOUNT.nameOffset), variable.u32(ACCOUNT.nameLength));
      const flags = fixed.u16(ACCOUNT.flags);
      return [{ name: decodeUtf16le(text), number: Number.parseInt(name, 16), disabled: (flags & ACCOUNT.disabled) !== 0 }];
    });
  } catch (error) {
    // A damaged database yields nothing at all: without accounts the inventory still stands.
    if (error instanceof PastEnd) return [];
    throw error;
  }
}
