import { DAMAGED, type ListRead } from "./binary-list";

/** Values that are read, and how deep they may lie in one another. */
const MOST_VALUES = 1_000_000;
const MOST_DEPTH = 512;

/** What stands between values and in them (RFC 8259, 2, 6, 7). Sticky: each is looked for where the reader stands. */
const BLANK = /[ \t\r\n,]*/y;
const TEXT = /"(?:[^"\\\p{Cc}]|\\(?:["\\/bfnrt]|u[0-9a-fA-F]{4}))*"/uy;
const NUMBER = /-?(?:0|[1-9]\d*)(?:\.\d+)?(?:[eE][+-]?\d+)?(?=[\s,\]}])/y;
const WORD = /(?:true|false|null)(?=[\s,\]}])/y;
const COLON = /[ \t\r\n]*:/y;
/** The next name of a member, from which on reading goes on behind damage: what begins it never stands in a text before a quote mark of its own. */
const NAME = /(?<=[{,\s\p{Cc}\ufffd])"(?:[^"\\\p{Cc}]|\\(?:["\\/bfnrt]|u[0-9a-fA-F]{4}))*"[ \t\r\n]*:/gu;

type Around = { readonly list: unknown[] } | { readonly map: Record<string, unknown>; name: string | null };

const BREAKS_OFF = "It breaks off: what stands before that is shown.";
const DAMAGED_WITHIN = "A part of it is damaged, or no JSON: what stands behind that may belong elsewhere in it.";

/**
 * Reads a JSON text that is cut off, or of which a part was written over (RFC 8259 for what is sound). What was open at a damaged place stays
 * open, as if nothing of the structure had been lost there; the value at that place is `DAMAGED`.
 * @returns null when no object or list begins in it
 */
export function readDamagedJson(text: string): ListRead | null {
  const begin = text.search(/[[{]/);
  if (begin < 0) return null;
  const open: Around[] = [];
  let top: unknown = null;
  let at = begin;
  let values = 0;
  let within = false;
  const take = (pattern: RegExp): string | null => {
    pattern.lastIndex = at;
    const found = pattern.exec(text);
    if (!found) return null;
    at = pattern.lastIndex;
    return found[0];
  };
  const put = (value: unknown) => {
    values += 1;
    const around = open.at(-1);
    if (!around) return;
    if ("list" in around) around.list.push(value);
    else {
      // Without its name a value is still given; a name such as "__proto__" is one like any other.
      const key = around.name ?? `? ${Object.keys(around.map).length + 1}`;
      Object.defineProperty(around.map, key, { value, enumerable: true, configurable: true, writable: true });
      around.name = null;
    }
  };
  const begins = (around: Around) => {
    const value = "list" in around ? around.list : around.map;
    if (open.length === 0) top = value;
    else put(value);
    open.push(around);
    at += 1;
  };
  while (at < text.length && values < MOST_VALUES) {
    take(BLANK);
    const mark = text[at];
    const around = open.at(-1);
    if (mark === undefined || (open.length === 0 && at > begin)) break;
    if ((mark === "{" || mark === "[") && open.length < MOST_DEPTH) {
      begins(mark === "{" ? { map: {}, name: null } : { list: [] });
      continue;
    }
    if (mark === "}" || mark === "]") {
      const kind = mark === "}" ? "map" : "list";
      const last = open.findLastIndex((each) => kind in each);
      within ||= last !== open.length - 1;
      // What closes nothing belonged to what is lost.
      if (last >= 0) open.length = last;
      at += 1;
      continue;
    }
    const words = take(TEXT);
    if (words !== null) {
      const value = JSON.parse(words) as string;
      if (around && "map" in around && around.name === null && take(COLON)) around.name = value;
      else if (take(COLON)) {
        // A member where a list was open: an object began in what is lost.
        within = true;
        open.push({ map: {}, name: value });
        const held = open.at(-1) as { map: Record<string, unknown> };
        if (around && "list" in around) around.list.push(held.map);
      } else put(value);
      continue;
    }
    const single = take(NUMBER) ?? take(WORD);
    if (single !== null) {
      put(numberOrWord(single));
      continue;
    }
    NAME.lastIndex = at;
    const next = NAME.exec(text);
    if (around && "map" in around && around.name !== null) put(DAMAGED);
    if (!next) return { value: top, problem: within ? `${DAMAGED_WITHIN} ${BREAKS_OFF}` : BREAKS_OFF };
    within = true;
    at = next.index;
  }
  const last = open.at(-1);
  if (last && "map" in last && last.name !== null) put(DAMAGED);
  const cut = open.length > 0 && at >= text.length;
  return { value: top, problem: [...(within ? [DAMAGED_WITHIN] : []), ...(cut ? [BREAKS_OFF] : [])].join(" ") || null };
}

/** A number of more digits than one here holds exactly stays as it is written. */
const numberOrWord = (text: string): unknown =>
  /^-?\d{16,}$/.test(text) && !Number.isSafeInteger(Number(text)) ? text : (JSON.parse(text) as unknown);
