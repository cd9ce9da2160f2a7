import { parseBuffer } from "bplist-parser";
import { walkXml } from "./xml";

const MAX_BYTES = 16 << 20;
/** Values of a list, at most. */
const MOST_VALUES = 1_000_000;

/** A property list, binary or XML. Of a damaged XML one it is what stands before the damage. @returns null when it is none */
export function readPropertyList(bytes: Uint8Array): unknown {
  if (bytes.length > MAX_BYTES) return null;
  const head = String.fromCharCode(...bytes.subarray(0, 8));
  if (!head.startsWith("bplist0")) return head.includes("<") ? readXmlList(new TextDecoder().decode(bytes)) : null;
  try {
    return (parseBuffer(Buffer.from(bytes)) as unknown[])[0];
  } catch {
    return null;
  }
}

type Collection = { readonly list: unknown[] } | { readonly map: Record<string, unknown>; key: string | null };

/** XML property lists (the public document type "PropertyList 1.0"): `dict`, `array` and the kinds of single values. */
function readXmlList(text: string): unknown {
  const open: Collection[] = [];
  let top: unknown = null;
  let words = "";
  let values = 0;
  const put = (value: unknown) => {
    values += 1;
    const around = open.at(-1);
    if (!around) top ??= value;
    else if ("list" in around) around.list.push(value);
    else if (around.key !== null) {
      // A key such as "__proto__" is a name like any other.
      Object.defineProperty(around.map, around.key, { value, enumerable: true, configurable: true, writable: true });
      around.key = null;
    }
  };
  const begin = (collection: Collection) => {
    put("list" in collection ? collection.list : collection.map);
    open.push(collection);
  };
  walkXml(text, {
    open: (name) => {
      words = "";
      if (name === "dict") begin({ map: {}, key: null });
      else if (name === "array") begin({ list: [] });
    },
    text: (part) => {
      words += part;
    },
    close: (name) => {
      const around = open.at(-1);
      if (name === "dict" || name === "array") open.pop();
      else if (name === "key" && around && "map" in around) around.key = words;
      else if (name === "string") put(words);
      else if (name === "integer") put(integerOf(words.trim()));
      else if (name === "real") put(Number(words.trim()));
      else if (name === "true" || name === "false") put(name === "true");
      else if (name === "data") put(new Uint8Array(Buffer.from(words, "base64")));
      else if (name === "date") put(new Date(words.trim()));
      words = "";
    },
    enough: () => values > MOST_VALUES,
  });
  return top;
}

/** A number as it is written, also where it is larger than a number here holds exactly. */
function integerOf(words: string): number | bigint {
  const number = Number(words);
  return Number.isSafeInteger(number) || !/^[-+]?\d{1,40}$/.test(words) ? number : BigInt(words);
}
