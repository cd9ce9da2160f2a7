import { LZ_CODE } from "./lz-code";

/** What the compiled module gives: where its memory's parts begin, and its loops (`compiled/lz.ts`). */
interface Compiled extends Record<Part, { readonly value: number }> {
  literals(first: number, last: number, count: number, a: number, b: number, c: number, d: number): number;
  matches(
    first: number,
    last: number,
    count: number,
    literals: number,
    plain: number,
    at: number,
    until: number,
    l: number,
    m: number,
    d: number,
  ): number;
  lzvn(from: number, to: number, plain: number, at: number, until: number): number;
}
type Part = "LITERAL_TABLE" | "RUN_TABLE" | "MATCH_TABLE" | "DISTANCE_TABLE" | "LITERALS" | "KINDS" | "CODED" | "readTo" | "damaged";

const PAGE = 65_536;
/** Bytes behind the coded and behind the plain ones that a step of a copy may touch. */
const ROOM = 64;
/** With more memory than this the module is given up after use: few pieces are so large. */
const MOST_KEPT_PAGES = 512;

/** The kinds of LZVN's instructions, by their first byte: numbers of `compiled/lz.ts`. From the published reference decoder, from memory. */
export const KIND = { invalid: 0, end: 1, nothing: 2, near: 3, medium: 4, far: 5, again: 6, literal: 7, match: 8 } as const;
const NOTHING: readonly number[] = [0x0e, 0x16];
const KINDS = Uint8Array.from({ length: 256 }, (_, code) => {
  if (code === 0x06) return KIND.end;
  if (NOTHING.includes(code)) return KIND.nothing;
  if (code >= 0xf0) return KIND.match;
  if (code >= 0xe0) return KIND.literal;
  if (code >= 0xd0 || (code >= 0x70 && code < 0x80)) return KIND.invalid;
  if (code >= 0xa0 && code < 0xc0) return KIND.medium;
  if ((code & 7) === 7) return KIND.far;
  if ((code & 7) === 6) return code < 0x40 ? KIND.invalid : KIND.again;
  return KIND.near;
});

/** The compiled loops with coded bytes laid into their memory, and room for the plain ones behind them. */
export class LzLoops {
  static #kept: LzLoops | null = null;
  readonly code: Compiled;
  readonly #memory: WebAssembly.Memory;
  /** Where the plain bytes begin in the memory. */
  plain = 0;

  private constructor() {
    this.#memory = new WebAssembly.Memory({ initial: 4 });
    const module = new WebAssembly.Module(Buffer.from(LZ_CODE, "base64"));
    this.code = new WebAssembly.Instance(module, { env: { memory: this.#memory } }).exports as unknown as Compiled;
    new Uint8Array(this.#memory.buffer).set(KINDS, this.code.KINDS.value);
  }

  /** Lays coded bytes out; the plain ones are zeros. One piece is decoded at a time. */
  static with(coded: Uint8Array, length: number): LzLoops {
    const loops = LzLoops.#kept ?? new LzLoops();
    const at = loops.code.CODED.value;
    loops.plain = at + Math.ceil((coded.length + ROOM) / 8) * 8;
    const pages = Math.ceil((loops.plain + length + ROOM) / PAGE);
    const have = loops.#memory.buffer.byteLength / PAGE;
    if (pages > have) loops.#memory.grow(pages - have);
    LzLoops.#kept = pages > MOST_KEPT_PAGES ? null : loops;
    const bytes = loops.bytes;
    bytes.set(coded, at);
    bytes.fill(0, at + coded.length, loops.plain + length + ROOM);
    return loops;
  }

  get bytes(): Uint8Array {
    return new Uint8Array(this.#memory.buffer);
  }

  get words(): Uint32Array {
    return new Uint32Array(this.#memory.buffer);
  }

  /** A copy of the plain bytes; those from `written` on are zeros, whatever a copy has overshot. */
  result(written: number, length: number): Uint8Array {
    const found = this.bytes.slice(this.plain, this.plain + length);
    found.fill(0, Math.min(written, length));
    return found;
  }
}
