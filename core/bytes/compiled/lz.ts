// AssemblyScript: compiled to WebAssembly by scripts/compile-loops.ts, and never run as it stands. The loops that touch every byte of
// LZFSE and LZVN are here, and nothing else: heads are read and tables are made outside, in lzfse.ts.

// Where the memory's parts begin. They are constants so that a look into a table is one instruction.
/** Of each of 1024 states of a literal, 4 bytes: bits to read, the symbol (from bit 8), what the bits are added to (from bit 16). */
export const LITERAL_TABLE: usize = 0x0;
/** Of each of 64 states of a literal run, a match length, and 256 of a distance, 8 bytes: bits to read, how many of them are the value's own (from bit 8), what the others are added to (from bit 16); then what the value is added to. */
export const RUN_TABLE: usize = 0x1000;
export const MATCH_TABLE: usize = 0x1200;
export const DISTANCE_TABLE: usize = 0x1400;
/** The literals of a block: at most 40,000 bytes, and room for a copy that overshoots. */
export const LITERALS: usize = 0x2000;
/** The kinds of LZVN's 256 instructions, a byte each. */
export const KINDS: usize = 0xc000;
/** Coded bytes, with room behind them; plain bytes stand behind those. */
export const CODED: usize = 0x1_0000;

/** Bytes that a copy may write too many: there is room behind all that is copied to. */
const STEP: usize = 8;

@inline
function mask(bits: u32): u64 {
  return ((<u64>1) << (<u64>bits)) - 1;
}

@inline
function bitsAt(bit: u32): u64 {
  return load<u64>(CODED + <usize>(bit >> 3)) >> (<u64>(bit & 7));
}

/** Decodes the literals of a block. @returns 0, or 1 where the stream ends before they do */
export function literals(first: u32, last: u32, count: u32, a: u32, b: u32, c: u32, d: u32): u32 {
  let bit = last;
  for (let index: u32 = 0; index < count; index += 4) {
    const one = load<u32>(LITERAL_TABLE + ((<usize>a) << 2));
    const two = load<u32>(LITERAL_TABLE + ((<usize>b) << 2));
    const three = load<u32>(LITERAL_TABLE + ((<usize>c) << 2));
    const four = load<u32>(LITERAL_TABLE + ((<usize>d) << 2));
    const all = (one & 255) + (two & 255) + (three & 255) + (four & 255);
    if (bit < first + all) return 1;
    bit -= all;
    let word = bitsAt(bit);
    d = (four >> 16) + <u32>(word & mask(four & 255));
    word >>= <u64>(four & 255);
    c = (three >> 16) + <u32>(word & mask(three & 255));
    word >>= <u64>(three & 255);
    b = (two >> 16) + <u32>(word & mask(two & 255));
    word >>= <u64>(two & 255);
    a = (one >> 16) + <u32>(word & mask(one & 255));
    const found = ((one >> 8) & 255) | (((two >> 8) & 255) << 8) | (((three >> 8) & 255) << 16) | (((four >> 8) & 255) << 24);
    store<u32>(LITERALS + <usize>index, found);
    // States come from a table that may be damaged.
    if ((a | b | c | d) > 1023) return 1;
  }
  return 0;
}

@inline
function copyApart(from: usize, to: usize, length: usize): void {
  for (let done: usize = 0; done < length; done += STEP) store<u64>(to + done, load<u64>(from + done));
}

@inline
function copyBack(to: usize, distance: usize, length: usize): void {
  if (distance >= STEP) copyApart(to - distance, to, length);
  else for (let done: usize = 0; done < length; done += 1) store<u8>(to + done, load<u8>(to + done - distance));
}

/**
 * Puts a block together from its literals and its matches.
 * @returns the place after it among the plain bytes, or a negative number where the block cannot be followed
 */
export function matches(first: u32, last: u32, count: u32, literalCount: u32, plain: usize, at: u32, until: u32, l: u32, m: u32, d: u32): i32 {
  let bit = last;
  let written = at;
  let taken: u32 = 0;
  let distance: u32 = 0;
  for (; count > 0; count -= 1) {
    const run = RUN_TABLE + ((<usize>l) << 3);
    const match = MATCH_TABLE + ((<usize>m) << 3);
    const back = DISTANCE_TABLE + ((<usize>d) << 3);
    const runWord = load<u32>(run);
    const matchWord = load<u32>(match);
    const backWord = load<u32>(back);
    const all = (runWord & 255) + (matchWord & 255) + (backWord & 255);
    if (bit < first + all) return -1;
    bit -= all;
    let word = bitsAt(bit);
    const backBits = word & mask(backWord & 255);
    word >>= <u64>(backWord & 255);
    const matchBits = word & mask(matchWord & 255);
    word >>= <u64>(matchWord & 255);
    const runBits = word & mask(runWord & 255);
    const runExtra = (runWord >> 8) & 255;
    const matchExtra = (matchWord >> 8) & 255;
    const backExtra = (backWord >> 8) & 255;
    let runLength = load<u32>(run, 4) + <u32>(runBits & mask(runExtra));
    let matchLength = load<u32>(match, 4) + <u32>(matchBits & mask(matchExtra));
    const newDistance = load<u32>(back, 4) + <u32>(backBits & mask(backExtra));
    l = (runWord >> 16) + <u32>(runBits >> (<u64>runExtra));
    m = (matchWord >> 16) + <u32>(matchBits >> (<u64>matchExtra));
    d = (backWord >> 16) + <u32>(backBits >> (<u64>backExtra));
    if (l > 63 || m > 63 || d > 255) return -1;
    if (newDistance != 0) distance = newDistance;
    if (taken + runLength > literalCount) return -1;
    const source = LITERALS + <usize>taken;
    taken += runLength;
    if (runLength > until - written) runLength = until - written;
    copyApart(source, plain + <usize>written, <usize>runLength);
    written += runLength;
    if (matchLength == 0 || written >= until) continue;
    if (distance == 0 || distance > written) return -1;
    if (matchLength > until - written) matchLength = until - written;
    copyBack(plain + <usize>written, <usize>distance, <usize>matchLength);
    written += matchLength;
  }
  return written;
}

/** Where a run of LZVN ended among the coded bytes, and whether the coded bytes broke off or cannot be followed. */
export let readTo: u32 = 0;
export let damaged: u32 = 0;

/**
 * Decodes LZVN from `from` to `to` among the coded bytes, until its end mark or the end of either side.
 * @returns the place after what was written among the plain bytes
 */
export function lzvn(from: u32, to: u32, plain: usize, at: u32, until: u32): u32 {
  let read = from;
  let written = at;
  let distance: u32 = 0;
  damaged = 1;
  while (written < until) {
    if (read >= to) break;
    const code = <u32>load<u8>(CODED + <usize>read);
    const next = <u32>load<u16>(CODED + <usize>read, 1);
    let run = code >> 6;
    let match = ((code >> 3) & 7) + 3;
    let width: u32 = 1;
    const kind = load<u8>(KINDS + <usize>code);
    // The numbers of the kinds are those of lzvn-kinds in lzfse.ts.
    if (kind == 3) {
      width = 2;
      distance = ((code & 7) << 8) | (next & 255);
    } else if (kind == 4) {
      width = 3;
      run = (code >> 3) & 3;
      match = (((code & 7) << 2) | (next & 3)) + 3;
      distance = next >> 2;
    } else if (kind == 5) {
      width = 3;
      distance = next;
    } else if (kind == 7) {
      match = 0;
      run = code & 15;
      if (run == 0) {
        width = 2;
        run = (next & 255) + 16;
      }
    } else if (kind == 8) {
      run = 0;
      match = code & 15;
      if (match == 0) {
        width = 2;
        match = (next & 255) + 16;
      }
    } else if (kind == 2) {
      read += 1;
      continue;
    } else if (kind == 1) {
      read = min(to, read + 8);
      damaged = 0;
      break;
    } else if (kind != 6) break;
    if (read + width + run > to) break;
    read += width;
    const source = CODED + <usize>read;
    read += run;
    if (run > until - written) run = until - written;
    copyApart(source, plain + <usize>written, <usize>run);
    written += run;
    if (match == 0) continue;
    if (distance == 0 || distance > written) break;
    if (match > until - written) match = until - written;
    copyBack(plain + <usize>written, <usize>distance, <usize>match);
    written += match;
  }
  if (written >= until) damaged = 0;
  readTo = read;
  return written;
}
