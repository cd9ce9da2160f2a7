import type { ByteSource } from "../../bytes/byte-source";
import { PROGRESSIVE } from "./markers";

/** A Huffman table (ITU-T T.81, annex C), as a look-up by the next 16 bits: code length << 8 | value; 0: no such code. */
export type HuffmanTable = Uint16Array;

/**
 * @param counts codes of each length, 1 … 16
 * @returns null when the counts do not make a code
 */
export function huffmanTable(counts: Uint8Array, values: Uint8Array): HuffmanTable | null {
  const table = new Uint16Array(65_536);
  let code = 0;
  let next = 0;
  for (let length = 1; length <= 16; length += 1) {
    for (let i = 0; i < (counts[length - 1] as number); i += 1) {
      if (code >= 1 << length) return null;
      const from = code << (16 - length);
      table.fill((length << 8) | (values[next] as number), from, from + (1 << (16 - length)));
      code += 1;
      next += 1;
    }
    code <<= 1;
  }
  return table;
}

export interface Component {
  readonly id: number;
  readonly h: number;
  readonly v: number;
  readonly quantization: number;
  /** Blocks in a row and in a column as the picture needs them, and as whole MCUs fill them. */
  readonly blocksWide: number;
  readonly blocksHigh: number;
  readonly stride: number;
  /** In progressive pictures: which coefficients are not zero, 64 a block. */
  readonly known: Uint8Array;
}

export interface Frame {
  readonly marker: number;
  readonly width: number;
  readonly height: number;
  readonly precision: number;
  readonly components: readonly Component[];
  readonly mcusWide: number;
  readonly mcusHigh: number;
  readonly maxH: number;
  readonly maxV: number;
}

export interface ScanComponent {
  readonly component: Component;
  readonly dc: HuffmanTable | undefined;
  readonly ac: HuffmanTable | undefined;
  /** What a DC coefficient is multiplied with; 0: not known. */
  readonly dcStep: number;
}

/**
 * How often what samples can give a DC coefficient may be: in a file that is followed much, because behind a stretch that was lost all of them are off
 * by as much as they can be; where data are only tried, hardly.
 */
export const BEYOND = { follow: 4, try: 1.1 } as const;

export interface Scan {
  readonly parts: readonly ScanComponent[];
  readonly spectralStart: number;
  readonly spectralEnd: number;
  readonly high: number;
  readonly low: number;
  /** MCUs between restart markers; 0: there are none. */
  readonly restart: number;
}

/** Where a scan stands between two MCUs; decoding can go on from it. */
export interface ScanState {
  /** Byte of the source read next, and the bits taken from it already. */
  readonly at: number;
  readonly bits: number;
  readonly count: number;
  readonly mcu: number;
  readonly untilRestart: number;
  readonly nextRestart: number;
  readonly predictions: readonly number[];
  readonly run: number;
}

export type ScanEnd =
  /** All MCUs are there; the next marker stands at `at`. */
  | { readonly ended: true; readonly at: number; readonly skipped: number }
  /** At `at` the data stop making sense; `mcu` MCUs had been read. */
  | { readonly ended: false; readonly at: number; readonly mcu: number; readonly reason: string };

/** Bytes read at once, and where only a look is wanted. */
const BLOCK = 1 << 15;
export const LOOK = 1 << 10;
/** A state is kept each time so many bytes have been read. */
const KEEP_EACH = 512;

/** Stands for a marker where the source ends. */
const END = 256;

/** Why the data stop making sense. */
class Stop extends Error {
  constructor(readonly reason: string) {
    super(reason);
  }
}

/** Made once: data are tried at very many places, and making an error each time took a good part of that. */
const STOP = {
  tooMuch: new Stop("more picture data come than the picture has room for"),
  noTable: new Stop("a table of codes is missing"),
  noCode: new Stop("the picture data hold a code that does not exist"),
  breaksOff: new Stop("the picture data break off"),
  tooEarly: new Stop("the picture data end too early"),
  noRestart: new Stop("a restart marker is missing"),
  impossible: new Stop("the picture data hold a value that cannot be"),
  tooMany: new Stop("a block of the picture has too many values"),
} as const;

/**
 * Follows the entropy-coded data of one scan (ITU-T T.81, annexes F and G) without making a picture of it: every code must
 * exist, every block must have its 64 coefficients, and the MCUs must end where the next marker stands.
 */
export class ScanReader {
  readonly #block: Uint8Array;
  /** What a DC coefficient of each part may be at most. */
  readonly #limits: readonly number[];
  #blockAt = 0;
  #blockEnd = 0;
  #at: number;
  #bits = 0;
  #count = 0;
  #mcu = 0;
  #untilRestart: number;
  #nextRestart = 0;
  #predictions: number[];
  #run = 0;
  /** A marker met in the data: nothing but made-up zero bits comes after it. */
  #marker = -1;
  #madeUp = 0;
  readonly #order: readonly { part: number; h: number; v: number }[];
  readonly #total: number;
  readonly #single: boolean;
  readonly kept: ScanState[] = [];

  constructor(
    private readonly source: ByteSource,
    private readonly frame: Frame,
    private readonly scan: Scan,
    from: number | ScanState,
    block = BLOCK,
    beyond: number = BEYOND.follow,
  ) {
    this.#block = new Uint8Array(block);
    // The DC coefficient is eight times the mean of a block's samples, which are shifted to both sides of zero (T.81, A.3.1 and A.3.3).
    const most = beyond * 2 ** (frame.precision + 2);
    this.#limits = scan.parts.map(({ dcStep }) => (dcStep > 0 ? most / (dcStep * 2 ** scan.low) + 1 : 2 ** (frame.precision + 8)));
    const first = scan.parts[0] as ScanComponent;
    this.#single = scan.parts.length === 1;
    this.#total = this.#single ? first.component.blocksWide * first.component.blocksHigh : frame.mcusWide * frame.mcusHigh;
    const order: { part: number; h: number; v: number }[] = [];
    if (this.#single) order.push({ part: 0, h: 0, v: 0 });
    else
      scan.parts.forEach(({ component }, part) => {
        for (let v = 0; v < component.v; v += 1) for (let h = 0; h < component.h; h += 1) order.push({ part, h, v });
      });
    this.#order = order;
    if (typeof from === "number") {
      this.#at = from;
      this.#untilRestart = scan.restart;
      this.#predictions = scan.parts.map(() => 0);
    } else {
      this.#at = from.at;
      this.#bits = from.bits;
      this.#count = from.count;
      this.#mcu = from.mcu;
      this.#untilRestart = from.untilRestart;
      this.#nextRestart = from.nextRestart;
      this.#predictions = [...from.predictions];
      this.#run = from.run;
    }
  }

  /**
   * Reads to the end of the scan.
   * @param keep keep states to go on from, about every 512 bytes
   */
  run(keep = false): ScanEnd {
    let keepAt = this.#at;
    try {
      for (; this.#mcu < this.#total; this.#mcu += 1) {
        if (keep && this.#at >= keepAt && this.#marker < 0) {
          this.kept.push(this.#state());
          keepAt = this.#at + KEEP_EACH;
        }
        if (this.scan.restart > 0 && this.#untilRestart === 0) this.#takeRestart();
        this.#readMcu();
        this.#untilRestart -= 1;
      }
    } catch (error) {
      if (!(error instanceof Stop)) throw error;
      return { ended: false, at: this.#place(), mcu: this.#mcu, reason: error.reason };
    }
    return this.#findMarker();
  }

  /** The MCU that is read next. */
  get mcu(): number {
    return this.#mcu;
  }

  #state(): ScanState {
    return {
      at: this.#at,
      bits: this.#bits,
      count: this.#count,
      mcu: this.#mcu,
      untilRestart: this.#untilRestart,
      nextRestart: this.#nextRestart,
      predictions: [...this.#predictions],
      run: this.#run,
    };
  }

  /** The byte the next bit stands in, about. */
  #place(): number {
    if (this.#marker === END) return this.source.size;
    return Math.max(0, Math.min(this.source.size, this.#at - ((this.#count - this.#madeUp) >> 3)));
  }

  #byte(at: number): number {
    if (at < this.#blockAt || at >= this.#blockEnd) {
      if (at >= this.source.size) return -1;
      this.#blockAt = at;
      this.#blockEnd = Math.min(this.source.size, at + this.#block.length);
      this.source.read(at, this.#block.subarray(0, this.#blockEnd - at));
    }
    return this.#block[at - this.#blockAt] as number;
  }

  #fill(): void {
    while (this.#count <= 16) {
      let byte = 0;
      if (this.#marker < 0) {
        byte = this.#byte(this.#at);
        if (byte === 0xff) {
          const next = this.#byte(this.#at + 1);
          if (next === 0) this.#at += 2;
          else if (next === 0xff) {
            this.#at += 1;
            continue;
          } else {
            this.#marker = next < 0 ? END : next;
            byte = 0;
          }
        } else if (byte < 0) {
          this.#marker = END;
          byte = 0;
        } else this.#at += 1;
      }
      // 24 made-up bits may stand in the buffer unused; `#take` notices when one is used.
      this.#bits = ((this.#bits << 8) | byte) & 0xffffff;
      this.#count += 8;
      if (this.#marker >= 0) this.#madeUp += 8;
    }
  }

  #take(length: number): number {
    if (length === 0) return 0;
    if (this.#count < length) this.#fill();
    this.#count -= length;
    if (this.#count < this.#madeUp) throw this.#tooEarly();
    return (this.#bits >>> this.#count) & ((1 << length) - 1);
  }

  #decode(table: HuffmanTable | undefined): number {
    if (!table) throw STOP.noTable;
    if (this.#count < 16) this.#fill();
    const entry = table[(this.#bits >>> (this.#count - 16)) & 0xffff] as number;
    if (entry === 0) {
      if (this.#marker >= 0 && this.#count - 16 < this.#madeUp) throw this.#tooEarly();
      throw STOP.noCode;
    }
    this.#take(entry >> 8);
    return entry & 0xff;
  }

  #tooEarly(): Stop {
    return this.#marker === END ? STOP.breaksOff : STOP.tooEarly;
  }

  #value(size: number): number {
    const bits = this.#take(size);
    return size > 0 && bits < 1 << (size - 1) ? bits - (1 << size) + 1 : bits;
  }

  #takeRestart(): void {
    // Bits left over fill the byte; then the marker, with its number in turn.
    if ((this.#count - this.#madeUp) >> 3 > 0) throw STOP.tooMuch;
    this.#findPendingMarker();
    if (this.#marker !== 0xd0 + this.#nextRestart) throw STOP.noRestart;
    this.#at += 2;
    this.#marker = -1;
    this.#madeUp = 0;
    this.#count = 0;
    this.#bits = 0;
    this.#nextRestart = (this.#nextRestart + 1) & 7;
    this.#untilRestart = this.scan.restart;
    this.#predictions.fill(0);
    this.#run = 0;
  }

  /** The buffer may not yet have met the marker that stands next. */
  #findPendingMarker(): void {
    if (this.#marker >= 0) return;
    let at = this.#at;
    while (this.#byte(at) === 0xff && this.#byte(at + 1) === 0xff) at += 1;
    if (this.#byte(at) !== 0xff || this.#byte(at + 1) <= 0) throw STOP.tooMuch;
    this.#at = at;
    this.#marker = this.#byte(at + 1);
  }

  #findMarker(): ScanEnd {
    // Whole bytes still in the buffer, and those up to the next marker, belong to nothing.
    let skipped = Math.max(0, (this.#count - this.#madeUp) >> 3);
    let at = this.#at;
    for (;;) {
      const byte = this.#byte(at);
      if (byte < 0) return { ended: false, at: this.source.size, mcu: this.#mcu, reason: "the picture breaks off before its end" };
      if (byte === 0xff) {
        const next = this.#byte(at + 1);
        if (next < 0) return { ended: false, at: this.source.size, mcu: this.#mcu, reason: "the picture breaks off before its end" };
        if (next === 0xff) {
          at += 1;
          continue;
        }
        if (next !== 0) return { ended: true, at, skipped };
        at += 1;
      }
      at += 1;
      skipped += 1;
      if (skipped > 4096) return { ended: false, at: this.#place(), mcu: this.#mcu, reason: STOP.tooMuch.reason };
    }
  }

  #readMcu(): void {
    const { frame, scan } = this;
    if (this.#single) {
      const part = scan.parts[0] as ScanComponent;
      const { blocksWide, stride } = part.component;
      const row = Math.floor(this.#mcu / blocksWide);
      this.#readBlock(part, 0, (row * stride + (this.#mcu - row * blocksWide)) * 64);
      return;
    }
    const progressive = frame.marker === PROGRESSIVE;
    const row = progressive ? Math.floor(this.#mcu / frame.mcusWide) : 0;
    const column = this.#mcu - row * frame.mcusWide;
    for (const { part, h, v } of this.#order) {
      const each = scan.parts[part] as ScanComponent;
      const { component } = each;
      const block = progressive ? (row * component.v + v) * component.stride + column * component.h + h : 0;
      this.#readBlock(each, part, block * 64);
    }
  }

  #readBlock(part: ScanComponent, index: number, at: number): void {
    const { scan } = this;
    if (this.frame.marker !== PROGRESSIVE) this.#sequential(part, index);
    else if (scan.spectralStart === 0) {
      if (scan.high > 0) this.#take(1);
      else this.#dc(part, index);
    } else if (scan.high === 0) this.#acFirst(part, at);
    else this.#acRefine(part, at);
  }

  #dc(part: ScanComponent, index: number): void {
    const size = this.#decode(part.dc);
    if (size > 16) throw STOP.impossible;
    const prediction = (this.#predictions[index] as number) + this.#value(size);
    // Brightness beyond what the samples can have comes of data that are not the picture's.
    if (Math.abs(prediction) > (this.#limits[index] as number)) throw STOP.impossible;
    this.#predictions[index] = prediction;
  }

  #sequential(part: ScanComponent, index: number): void {
    this.#dc(part, index);
    for (let k = 1; k < 64; k += 1) {
      const code = this.#decode(part.ac);
      const size = code & 15;
      const run = code >> 4;
      if (size === 0) {
        if (run < 15) return;
        k += 15;
        if (k > 63) throw STOP.tooMany;
        continue;
      }
      k += run;
      if (k > 63) throw STOP.tooMany;
      this.#take(size);
    }
  }

  #acFirst(part: ScanComponent, at: number): void {
    if (this.#run > 0) {
      this.#run -= 1;
      return;
    }
    const { spectralStart, spectralEnd } = this.scan;
    const { known } = part.component;
    for (let k = spectralStart; k <= spectralEnd; k += 1) {
      const code = this.#decode(part.ac);
      const size = code & 15;
      const run = code >> 4;
      if (size === 0) {
        if (run < 15) {
          this.#run = (1 << run) - 1 + this.#take(run);
          return;
        }
        k += 15;
        continue;
      }
      k += run;
      if (k > spectralEnd) throw STOP.tooMany;
      this.#take(size);
      known[at + k] = 1;
    }
  }

  #acRefine(part: ScanComponent, at: number): void {
    const { spectralStart, spectralEnd } = this.scan;
    const { known } = part.component;
    let k = spectralStart;
    if (this.#run === 0) {
      for (; k <= spectralEnd; k += 1) {
        const code = this.#decode(part.ac);
        const size = code & 15;
        let run = code >> 4;
        if (size === 0 && run < 15) {
          this.#run = (1 << run) + this.#take(run);
          break;
        }
        if (size > 1) throw STOP.impossible;
        if (size === 1) this.#take(1);
        for (; k <= spectralEnd; k += 1) {
          if (known[at + k]) this.#take(1);
          else {
            if (run === 0) break;
            run -= 1;
          }
        }
        if (size === 1) {
          if (k > spectralEnd) throw STOP.tooMany;
          known[at + k] = 1;
        }
      }
    }
    if (this.#run > 0) {
      for (; k <= spectralEnd; k += 1) if (known[at + k]) this.#take(1);
      this.#run -= 1;
    }
  }
}
