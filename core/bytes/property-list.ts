import { DAMAGED, type ListRead, readBinaryList } from "./binary-list";
import { hasForeignCharacters, walkDamagedXml } from "./damaged-xml";
import { walkXml } from "./xml";

const MAX_BYTES = 16 << 20;
/** Values of a list, at most. */
const MOST_VALUES = 1_000_000;
/** What is damaged in an XML list, in words. */
const XML_DAMAGED = "It is damaged or breaks off: what stands behind the damage may belong elsewhere in it.";

/** A property list, binary or XML; of a damaged one what is left, without its damaged values. @returns null when it is none */
export function readPropertyList(bytes: Uint8Array): unknown {
  const found = readDamagedPropertyList(bytes);
  return found && (found.problem === null ? found.value : withoutDamage(found.value));
}

/** A property list with what is damaged in it. @returns null when it is none, or nothing of it is left */
export function readDamagedPropertyList(bytes: Uint8Array): ListRead | null {
  if (bytes.length > MAX_BYTES) return null;
  const head = String.fromCharCode(...bytes.subarray(0, 8));
  if (head.startsWith("bplist0")) return readBinaryList(bytes);
  return head.includes("<") ? readXmlList(new TextDecoder().decode(bytes)) : null;
}

function withoutDamage(value: unknown): unknown {
  if (value === DAMAGED) return null;
  if (Array.isArray(value)) return value.filter((each) => each !== DAMAGED).map(withoutDamage);
  if (typeof value !== "object" || value === null || value instanceof Uint8Array || value instanceof Date) return value;
  return Object.fromEntries(Object.entries(value).flatMap(([name, each]) => (each === DAMAGED ? [] : [[name, withoutDamage(each)]])));
}

type Collection = { readonly list: unknown[] } | { readonly map: Record<string, unknown>; key: string | null };

/** XML property lists (the public document type "PropertyList 1.0"): `dict`, `array` and the kinds of single values. */
function readXmlList(text: string): ListRead | null {
  const sound = new XmlList();
  const problem = walkXml(text, sound);
  if (problem === null && !hasForeignCharacters(text)) return sound.top === null ? null : { value: sound.top, problem: null };
  const list = new XmlList();
  walkDamagedXml(text, list);
  return list.top === null ? null : { value: list.top, problem: XML_DAMAGED };
}

class XmlList {
  top: unknown = null;
  readonly #open: Collection[] = [];
  #words = "";
  #isDamaged = false;
  #values = 0;

  open(name: string): void {
    this.#words = "";
    this.#isDamaged = false;
    if (name === "dict") this.#begin({ map: {}, key: null });
    else if (name === "array") this.#begin({ list: [] });
  }

  text(part: string): void {
    this.#words += part;
  }

  damage(): void {
    this.#isDamaged = true;
  }

  close(name: string, whole = true): void {
    const around = this.#open.at(-1);
    const words = this.#words;
    if (name === "dict" || name === "array") this.#open.pop();
    else if (name === "key" && around && "map" in around) {
      // A key whose value is lost.
      if (around.key !== null) this.#put(DAMAGED);
      around.key = this.#isDamaged || !whole ? null : words;
    } else if (SINGLE.has(name)) this.#put(this.#isDamaged || !whole ? DAMAGED : singleOf(name, words));
    this.#words = "";
    this.#isDamaged = false;
  }

  enough(): boolean {
    return this.#values > MOST_VALUES;
  }

  #put(value: unknown): void {
    this.#values += 1;
    const around = this.#open.at(-1);
    if (!around) this.top ??= value;
    else if ("list" in around) around.list.push(value);
    else if (around.key !== null) {
      // A key such as "__proto__" is a name like any other.
      Object.defineProperty(around.map, around.key, { value, enumerable: true, configurable: true, writable: true });
      around.key = null;
    }
  }

  #begin(collection: Collection): void {
    this.#put("list" in collection ? collection.list : collection.map);
    this.#open.push(collection);
  }
}

const SINGLE: ReadonlySet<string> = new Set(["string", "integer", "real", "true", "false", "data", "date"]);

function singleOf(name: string, words: string): unknown {
  if (name === "integer") return integerOf(words.trim());
  if (name === "real") return Number(words.trim());
  if (name === "true" || name === "false") return name === "true";
  if (name === "data") return new Uint8Array(Buffer.from(words, "base64"));
  return name === "date" ? new Date(words.trim()) : words;
}

/** A number as it is written, also where it is larger than a number here holds exactly. */
function integerOf(words: string): number | bigint {
  const number = Number(words);
  return Number.isSafeInteger(number) || !/^[-+]?\d{1,40}$/.test(words) ? number : BigInt(words);
}
