import { DAMAGED, type ListRead } from "../bytes/binary-list";
import { readDamagedJson } from "../bytes/damaged-json";
import { hasForeignCharacters, walkDamagedXml } from "../bytes/damaged-xml";
import { readDamagedPropertyList } from "../bytes/property-list";
import { shortened } from "../bytes/text";
import { walkXml } from "../bytes/xml";
import { singleMoment } from "./times";

/** A name with its value in a file of settings; what holds others has none of its own. */
export interface Setting {
  readonly name: string;
  readonly value: string | null;
  /** How deep it lies in others. */
  readonly level: number;
  /** The moment its value stands for, in UTC, and how that is known; null: it is none. */
  readonly when: { readonly at: string; readonly how: string } | null;
}

export interface Settings {
  readonly settings: readonly Setting[];
  /** There are more than are kept. */
  readonly more: boolean;
  /** Why not all of it was read; null: all was. */
  readonly problem: string | null;
}

export type SettingsForm = "plist" | "json" | "xml" | "ini";

/** Usual endings of names (common practice, no published source). */
const BY_NAME: readonly (readonly [RegExp, SettingsForm])[] = [
  [/\.plist$/i, "plist"],
  [/\.json$/i, "json"],
  [/\.xml$/i, "xml"],
  [/\.(ini|cfg|conf|inf)$/i, "ini"],
];
const BY_FORMAT: Readonly<Record<string, SettingsForm>> = { plist: "plist", "plist-xml": "plist", json: "json", xml: "xml" };

/**
 * The form of a file of settings, by its content; of one that is damaged, or plain text, by its name.
 * @param format id of the content's format; not set: it is none that is known @returns null when it is none
 */
export function formOfSettings(format: string | undefined, name: string): SettingsForm | null {
  const known = BY_FORMAT[format ?? ""];
  if (known || !(format === undefined || format === "text" || format === "words")) return known ?? null;
  return BY_NAME.find(([ending]) => ending.test(name))?.[1] ?? null;
}

/** How much of a file of settings is given. */
export interface Detail {
  /** Names at most. */
  readonly most: number;
  /** Characters of a name and of a value at most. */
  readonly longest: number;
  /** Bytes of data are given in hexadecimal digits; else by their number. */
  readonly data: boolean;
}

const SHOWN: Detail = { most: 5_000, longest: 2_000, data: false };
const DEEPEST = 64;

/** Names of settings that are moments. Common practice, no published source. */
const MOMENT_NAME = /date|time|when|last|since|until|creat|modif|updat|expir|open|seen|sync|start|(^|[_a-z])at$/i;
/** Digits of a date as settings write it (ISO 8601), with or without a time. */
const WRITTEN = /^\d{4}-\d{2}-\d{2}([T ]\d{2}:\d{2}(:\d{2}(\.\d+)?)?(Z|[+-]\d{2}:?\d{2})?)?$/;

class Tree {
  readonly settings: Setting[] = [];
  more = false;

  constructor(
    private readonly now: number,
    readonly detail: Detail,
  ) {}

  add(name: string, value: string | null, level: number, moment: number | string | null = null): void {
    if (this.settings.length >= this.detail.most) {
      this.more = true;
      return;
    }
    this.settings.push({
      name: shortened(name, this.detail.longest),
      value: value === null ? null : shortened(value, this.detail.longest),
      level: Math.min(level, DEEPEST),
      when: moment === null ? null : this.whenOf(name, moment),
    });
  }

  /** Gives a name that was added before the words that came behind it. */
  say(at: number, name: string, said: string): void {
    const setting = this.settings[at];
    const words = said.trim();
    if (setting && words !== "")
      this.settings[at] = { ...setting, value: shortened(words, this.detail.longest), when: this.whenOf(name, words) };
  }

  /** Adds a value as JSON and property lists have it, and all it holds. */
  addValue(name: string, value: unknown, level: number): void {
    if (this.more) return;
    const entries = entriesOf(value);
    if (!entries) this.add(name, wordsOf(value, this.detail), level, typeof value === "number" || typeof value === "string" ? value : null);
    // What is deeper is damage, or made to be.
    else if (level >= DEEPEST) this.add(name, "…", level);
    else {
      this.add(name, Array.isArray(value) ? `${entries.length} ${entries.length === 1 ? "value" : "values"}` : null, level);
      this.addEntries(entries, level + 1);
    }
  }

  addEntries(entries: readonly (readonly [string, unknown])[], level: number): void {
    for (const [name, value] of entries) {
      if (this.more) return;
      this.addValue(name, value, level);
    }
  }

  /** The moment a value stands for, by how it is written or, where the name says that it is one, by how large it is. */
  whenOf(name: string, value: number | string): Setting["when"] {
    if (typeof value === "string" && WRITTEN.test(value)) {
      const at = Date.parse(value);
      return Number.isNaN(at) ? null : { at: momentText(at), how: "as it is written" };
    }
    const number = typeof value === "number" ? value : /^\d{9,19}$/.test(value) ? Number(value) : Number.NaN;
    if (!MOMENT_NAME.test(name) || !Number.isFinite(number)) return null;
    const found = singleMoment(number, this.now);
    return found && { at: momentText(found.seconds * 1000), how: found.form.words };
  }
}

const momentText = (ms: number) => new Date(ms).toISOString().slice(0, 19).replace("T", " ");

/**
 * Reads a file of settings as a tree of names and values: property lists (binary and XML), JSON (RFC 8259), XML 1.0, and sections of
 * names and values a line each (common practice, no published source). Of a damaged one it is what is left, with what is wrong in words.
 * @param text the bytes as text; a property list is read from its bytes @param now seconds since 1970
 * @returns null when it is not of that form
 */
export function readSettings(form: SettingsForm, bytes: Uint8Array, text: string, now: number, detail = SHOWN): Settings | null {
  const tree = new Tree(now, detail);
  const done = (problem: string | null): Settings | null =>
    tree.settings.length === 0 && problem !== null ? null : { settings: tree.settings, more: tree.more, problem };
  // Without its document type it looks like any XML.
  if (form === "plist" || (form === "xml" && /<plist[\s>]/.test(text.slice(0, 1000)))) {
    const list = readDamagedPropertyList(bytes);
    if (list === null) return null;
    addTop(tree, list.value);
    return done(list.problem);
  }
  if (form === "json") {
    const read = readJson(text.replace(/^\ufeff/, ""));
    if (!read) return null;
    addTop(tree, read.value);
    return done(read.problem);
  }
  if (form === "xml") {
    const problem = readXml(tree, text);
    if (problem === null && !hasForeignCharacters(text)) return done(null);
    const left = new Tree(now, detail);
    readDamagedXml(left, text);
    return left.settings.length > 0 ? { settings: left.settings, more: left.more, problem: XML_DAMAGED } : null;
  }
  readSections(tree, text);
  return done(hasForeignCharacters(text) ? "Bytes in it are no text: some of its lines are damaged." : null);
}

const XML_DAMAGED = "It is damaged or breaks off: what stands behind the damage may belong elsewhere in it.";

function readJson(text: string): ListRead | null {
  try {
    return { value: JSON.parse(exactNumbers(text)) as unknown, problem: null };
  } catch {
    const left = readDamagedJson(text);
    // Nothing may be missing in it, but it is not what its form asks for.
    return left && { value: left.value, problem: left.problem ?? "It is not written as JSON throughout: something in it may be damaged." };
  }
}

/** Numbers of more digits than a number here holds exactly, in quotes: they are to be shown as they are written. */
const exactNumbers = (json: string) =>
  json.replace(/"(?:[^"\\]|\\.)*"|-?\d{16,}(?![\d.eE])/g, (part) => (part.startsWith('"') ? part : `"${part}"`));

function addTop(tree: Tree, value: unknown): void {
  const entries = entriesOf(value);
  if (entries) tree.addEntries(entries, 0);
  else tree.addValue("value", value, 0);
}

/** What a value holds, lists by their places from 1; null: it is a single one. */
function entriesOf(value: unknown): readonly (readonly [string, unknown])[] | null {
  if (typeof value !== "object" || value === null || value instanceof Uint8Array || value instanceof Date) return null;
  return Array.isArray(value) ? value.map((each, i) => [String(i + 1), each] as const) : Object.entries(value);
}

function wordsOf(value: unknown, { data }: Detail): string {
  if (value === DAMAGED) return "damaged";
  if (value instanceof Uint8Array) return data ? Buffer.from(value).toString("hex") : `${value.length} bytes`;
  if (value instanceof Date) return Number.isNaN(value.getTime()) ? "a date that is none" : momentText(value.getTime());
  return String(value);
}

/** Elements with their words, and their attributes below them. @returns why it was not read to its end; null: it was */
function readXml(tree: Tree, text: string): string | null {
  const open: { name: string; words: string; at: number }[] = [];
  return walkXml(text, {
    open: (name, _attribute, all) => {
      open.push({ name, words: "", at: tree.settings.length });
      tree.add(name, null, open.length - 1);
      for (const [each, value] of all()) tree.add(each, value, open.length, value);
    },
    text: (words) => {
      const last = open.at(-1);
      if (last && last.words.length <= tree.detail.longest) last.words += words;
    },
    close: () => {
      const last = open.pop();
      if (last) tree.say(last.at, last.name, last.words);
    },
    enough: () => tree.more,
  });
}

/** What is left of elements with their words: a damaged one keeps its name alone. */
function readDamagedXml(tree: Tree, text: string): void {
  const open: { name: string; words: string; at: number; isDamaged: boolean }[] = [];
  walkDamagedXml(text, {
    open: (name, attributes) => {
      open.push({ name, words: "", at: tree.settings.length, isDamaged: false });
      tree.add(name, null, open.length - 1);
      for (const [each, value] of attributes) tree.add(each, value, open.length, value);
    },
    text: (words) => {
      const last = open.at(-1);
      if (last && last.words.length <= tree.detail.longest) last.words += words;
    },
    damage: () => {
      const last = open.at(-1);
      if (last) last.isDamaged = true;
    },
    close: (_name, whole) => {
      const last = open.pop();
      if (last) tree.say(last.at, last.name, whole && !last.isDamaged ? last.words : "");
    },
    enough: () => tree.more,
  });
}

function readSections(tree: Tree, text: string): void {
  let level = 0;
  for (const line of text.replace(/^\ufeff/, "").split(/\r\n|\r|\n/)) {
    const words = line.trim();
    if (words === "" || words.startsWith(";") || words.startsWith("#")) continue;
    const section = /^\[(.{1,300})\]$/.exec(words);
    if (section) {
      tree.add(section[1] as string, null, 0);
      level = 1;
      continue;
    }
    const mark = words.search(/[=:]/);
    const [name, value] = mark > 0 ? [words.slice(0, mark).trim(), words.slice(mark + 1).trim()] : [words, ""];
    tree.add(name, value, level, value);
    if (tree.more) return;
  }
}
