// AssemblyScript: compiled to WebAssembly by scripts/compile-loops.ts, and never run as it stands. The loops that touch every byte
// of a sweep are here, and nothing else: what a mark means is known outside. mark-search.ts fills the tables and reads what comes out.

// Where the memory's parts begin. They are constants so that a look into a table is one instruction.
/** What a pair of bytes at a sector's beginning may mean: 65,536 bytes. */
export const STARTS: usize = 0;
/** The same for the pair four bytes on: 65,536 bytes. */
export const FOURS: usize = 0x1_0000;
/** By the lower 15 bits of a pair: bit i is set when the pair is bytes i and i + 1 of four that are looked for: 32,768 bytes. */
export const PAIRS: usize = 0x2_0000;
/** Hashes of the first four bytes of marks at sectors, one bit each: 8,192 bytes. */
export const START_WORDS: usize = 0x2_8000;
/** Hashes of the four bytes that are looked for at every byte, one bit each: 8,192 bytes. */
export const ANY_WORDS: usize = 0x2_a000;
/** Whether `STARTS` says anything of a pair, one bit each: 8,192 bytes, which stay in the processor's nearest cache. */
export const START_BITS: usize = 0x2_d000;
/** The same for `FOURS`: 8,192 bytes. */
export const FOUR_BITS: usize = 0x2_f000;
/** The bytes that are looked through; some room before them, where four bytes may begin, and behind them. */
export const BLOCK: usize = 0x3_2000;
/** Gets the places that are found, 4 bytes each: up to three for every third byte of the block. */
export const OUT: usize = 0x8_0000;

const SECTOR: usize = 512;
/** What a pair of bytes in a table of beginnings may mean; the first two come out beside the place. */
const BEGINS: u32 = 1;
const READS: u32 = 2;
const LOOK_CLOSER: u32 = 4;
/** Multiplier of Fibonacci hashing: 2^32 divided by the golden ratio. */
const GOLDEN: u32 = 0x9e3779b1;

@inline
function isKnown(word: u32, bits: usize): bool {
  const hash = (word * GOLDEN) >> 16;
  return ((<u32>load<u8>(bits + <usize>(hash >> 3))) & (1 << (hash & 7))) != 0;
}

@inline
function pairAt(at: usize): u32 {
  return <u32>load<u8>(<usize>load<u16>(at) & 0x7fff, PAIRS);
}

@inline
function fourPairsAt(at: usize): u32 {
  return pairAt(at) | pairAt(at + 3) | pairAt(at + 6) | pairAt(at + 9);
}

@inline
function bitOf(pair: u32, bits: usize): u32 {
  return ((<u32>load<u8>(bits + <usize>(pair >> 3))) >> (pair & 7)) & 1;
}

/** Whether 16 bytes all occur in text: at least a blank and no delete, or a tab or an end of line. */
@inline
function areLetters(bytes: v128): bool {
  const plain = v128.and(i8x16.ge_u(bytes, i8x16.splat(32)), i8x16.ne(bytes, i8x16.splat(127)));
  const line = v128.or(i8x16.eq(bytes, i8x16.splat(10)), i8x16.eq(bytes, i8x16.splat(13)));
  return i8x16.all_true(v128.or(v128.or(plain, line), i8x16.eq(bytes, i8x16.splat(9))));
}

/** Whether a text may begin here: the mark of UTF-16, or 32 bytes that all occur in text. */
function isText(at: usize): bool {
  const mark = load<u16>(at);
  return mark == 0xfeff || mark == 0xfffe || (areLetters(v128.load(at)) && areLetters(v128.load(at, 16)));
}

/**
 * Sectors of the block's first `length` bytes at which a file or text may begin.
 * @param later, laterWord where in the sector the one later mark stands, and its first four bytes; 0: there is none
 * @returns how many there are; each comes out as its distance from the block's beginning, with BEGINS and READS in the lowest bits
 */
export function sectors(length: usize, later: usize, laterWord: u32): u32 {
  // First what must be read of every sector, from tables that stay near and without a branch that would have to wait; then a closer look
  // at a few.
  let some: u32 = 0;
  const hasLater: u32 = later != 0 ? BEGINS : 0;
  for (let i: usize = 0; i < length; i += SECTOR) {
    const at = BLOCK + i;
    const mark = <u32>(load<u32>(at + later) == laterWord) & hasLater;
    store<u32>(OUT + ((<usize>some) << 2), (<u32>i) | mark);
    some += bitOf(<u32>load<u16>(at), START_BITS) | bitOf(<u32>load<u16>(at, 4), FOUR_BITS) | mark;
  }
  let count: u32 = 0;
  for (let i: u32 = 0; i < some; i++) {
    const packed = load<u32>(OUT + ((<usize>i) << 2));
    const place = packed & ~(<u32>SECTOR - 1);
    const at = BLOCK + <usize>place;
    const first = <u32>load<u8>(<usize>load<u16>(at), STARTS);
    const fourth = <u32>load<u8>(<usize>load<u16>(at, 4), FOURS);
    let may = ((packed | first | fourth) & BEGINS) | (first & READS);
    if (first & LOOK_CLOSER && isKnown(load<u32>(at), START_WORDS)) may |= BEGINS;
    if (fourth & LOOK_CLOSER && isKnown(load<u32>(at, 4), START_WORDS)) may |= BEGINS;
    if (may & READS && !isText(at)) may &= ~READS;
    if (may == 0) continue;
    store<u32>(OUT + ((<usize>count) << 2), place | may);
    count++;
  }
  return count;
}

/**
 * Places where the four bytes that reveal a mark may stand. Of the three pairs of any four bytes one stands at a multiple of three:
 * so only those are looked up, and few of them have to be looked at again.
 * @param length those pairs are within the block's first `length` bytes
 * @returns how many there are; each comes out as its distance from the block's beginning plus 2, where four bytes may begin before it
 */
export function anywhere(length: usize): u32 {
  let count: u32 = 0;
  const end = BLOCK + length;
  for (let at = BLOCK; at < end; at += 48) {
    if (!(fourPairsAt(at) | fourPairsAt(at + 12) | fourPairsAt(at + 24) | fourPairsAt(at + 36))) continue;
    const stop = min(end, at + 48);
    for (let place = at; place < stop; place += 3) {
      const known = pairAt(place);
      if (!known) continue;
      for (let before: usize = 0; before < 3; before++) {
        if (!(known & (1 << (<u32>before))) || !isKnown(load<u32>(place - before), ANY_WORDS)) continue;
        store<u32>(OUT + ((<usize>count) << 2), <u32>(place + 2 - before - BLOCK));
        count++;
      }
    }
  }
  return count;
}
