import type { ByteSource } from "../../bytes/byte-source";
import { PROGRESSIVE } from "./markers";
import { BEYOND, type Frame, LOOK, type Scan, type ScanEnd, ScanReader, type ScanState } from "./scan";

/** Coefficients of a component of which copies are kept, at most. */
const MOST_COPIED = 40_000_000;

/** A scan that breaks off, and can be taken up again with other bytes from any of its states, as often as wanted. */
export class OpenScan {
  /** Which coefficients of the scan's component were known before it (progressive pictures); null: none are needed. */
  readonly #before: Uint8Array | null;
  /** The same, as the scan left them. */
  readonly #after: Uint8Array | null;
  /** Up to here the coefficients are as the scan left them; from `#touched` on as before it. Indices of the component's `known`. */
  #left: number;
  #touched: number;

  /** @param before what was known before the scan, of its only component; not given: the scan asks for nothing of the kind, or it was not kept */
  constructor(
    readonly frame: Frame,
    readonly scan: Scan,
    readonly states: readonly ScanState[],
    /** MCUs that could be read. */
    readonly mcus: number,
    before: Uint8Array | null,
  ) {
    this.#before = before;
    this.#after = before && (this.#known?.slice() ?? null);
    this.#left = this.#blockAt(mcus + 1);
    this.#touched = this.#left;
  }

  /** Whether data can be tried from the middle of the scan on: what is known of each coefficient can be put back. */
  get canGoOn(): boolean {
    return !needsKnown(this.frame, this.scan) || this.#before !== null;
  }

  /** Whether any bytes would do as data of the scan: each is a correction of what is known already. */
  get takesAnything(): boolean {
    return this.frame.marker === PROGRESSIVE && this.scan.high > 0;
  }

  get #known(): Uint8Array | undefined {
    return this.scan.parts[0]?.component.known;
  }

  /** Index of the first coefficient of a block; the scan has one component. */
  #blockAt(mcu: number): number {
    const component = this.scan.parts[0]?.component;
    if (!component) return 0;
    const { blocksWide, blocksHigh, stride, known } = component;
    const row = Math.floor(mcu / blocksWide);
    return row >= blocksHigh ? known.length : (row * stride + (mcu - row * blocksWide)) * 64;
  }

  /** Reads on from a state to the end of the scan, with other bytes behind it. */
  goOn(source: ByteSource, state: ScanState): ScanEnd {
    this.#putBack(state.mcu);
    const reader = new ScanReader(source, this.frame, this.scan, state, LOOK, BEYOND.try);
    const end = reader.run();
    this.#touched = Math.max(this.#touched, this.#blockAt(reader.mcu + 1));
    return end;
  }

  /** Before a state the coefficients are as the scan left them, behind it as they were before the scan. */
  #putBack(mcu: number): void {
    const [known, before, after] = [this.#known, this.#before, this.#after];
    if (!known || !before || !after) return;
    const at = this.#blockAt(mcu);
    if (at > this.#left) known.set(after.subarray(this.#left, at), this.#left);
    if (at < this.#touched) known.set(before.subarray(at, this.#touched), at);
    this.#left = at;
    this.#touched = at;
  }
}

/** Whether a scan asks which coefficients are known, or says it of some: the AC scans of progressive pictures (ITU-T T.81, G.1.2.2 and G.1.2.3). */
const needsKnown = (frame: Frame, scan: Scan): boolean => frame.marker === PROGRESSIVE && scan.spectralStart > 0;

/** What is known before a scan of its only component, where that is asked for and not too much to be kept. */
export function knownBefore(frame: Frame, scan: Scan): Uint8Array | null {
  const known = scan.parts[0]?.component.known;
  return known && needsKnown(frame, scan) && known.length <= MOST_COPIED ? known.slice() : null;
}
