import { parentPort, workerData } from "node:worker_threads";
import type { Checkpoint } from "../core/bytes/checkpoint";
import { firstByte } from "../core/bytes/layout";
import { encodeAscending } from "../core/bytes/leb128";
import type { Range } from "../core/bytes/range-set";
import { zoneReader } from "../core/bytes/times";
import type { Copy } from "../core/copies/copy";
import { type PassPlace, passKind } from "../core/copies/pass-kinds";
import { SECTOR } from "../core/filesystems/sector-scan";
import { kindOf } from "../core/formats/registry";
import type { PlaceRule } from "../core/places/rule";
import type { SetFacts } from "../core/sets/set-facts";
import type { VolumePlace } from "../io/open-searchable";
import type { SourceAt } from "../io/open-source";
import { logReaderFaults } from "../server/log/reader-faults";
import type { PassOptions, Sighted } from "../server/passes/contract";
import { copyRows } from "../server/passes/copy-rows";
import { GATE } from "./pass-gate";
import { PASS_READERS, type Reading } from "./pass-readers";

logReaderFaults();

/** What the thread is started with. `gate` holds two numbers (`GATE`). */
export interface PassThreadData extends SourceAt {
  readonly rules: readonly PlaceRule[];
  /** Of a sweep: stretches that need not be looked through again. Disk byte offsets. */
  readonly swept: readonly Range[];
  /** Of a sweep: threads that look through stretches at the same time. */
  readonly threads: number;
  readonly volume: VolumePlace & { readonly id: number };
  readonly place: PassPlace;
  readonly options: PassOptions;
  /** The job's zone, in which local times are read. */
  readonly timeZone: string;
  readonly resume: Checkpoint | null;
  /** Of a sweep that is to be ended: so many bytes were done when that was asked for. */
  readonly until: number;
  /** Of a pass over leftovers that goes on: what it noted so far, bytes from the volume's beginning. */
  readonly noted: Float64Array | null;
  /** Copies in a batch at most. */
  readonly batch: number;
  readonly gate: SharedArrayBuffer;
}

export interface PassThreadBatch {
  readonly rows: Uint8Array;
  readonly resume: Checkpoint | null;
  readonly done: number;
  readonly total: number;
  readonly end: boolean;
  /** Stretches of the disk known to be unreadable so far; empty where they are the same as before. Bytes. */
  readonly unreadable: readonly Range[];
  /** Of a sweep: the stretches it looks through, small gaps closed. Disk byte offsets. */
  readonly reach: readonly Range[] | null;
  /** Of a sweep: what it has found and not given out yet. */
  readonly sighted: Sighted | null;
  /** Of a sweep: it looks for pieces, and would do so anew if it went on from here. */
  readonly inMidst: boolean;
  /** Of a pass over leftovers: what it noted since the batch before, encoded. */
  readonly noted: Uint8Array | null;
  /** Of a pass over earlier states: the sets it knows of so far. */
  readonly sets: readonly SetFacts[] | null;
}

/** A batch is handed over at the latest after this long, so that the screen follows; the first one with something in it sooner. */
const MAX_MS = 700;
const FIRST_MS = 50;

function open(data: PassThreadData): Reading {
  const gate = new Int32Array(data.gate);
  const enough = (done: number) => Atomics.load(gate, GATE.enough) === 1 && done >= data.until;
  return PASS_READERS[data.place]({ data, part: partOf(data), enough });
}

function run(data: PassThreadData): void {
  const source = open(data);
  const gate = new Int32Array(data.gate);
  let sent = 0;
  let copies: Copy[] = [];
  let noted: number[] = [];
  let noting = false;
  let started = Date.now();
  let last: Pick<PassThreadBatch, "resume" | "done" | "total" | "sighted" | "inMidst" | "sets"> = {
    resume: data.resume,
    done: 0,
    total: 0,
    sighted: null,
    inMidst: false,
    sets: null,
  };
  const send = (end: boolean) => {
    const batch: PassThreadBatch = {
      rows: copyRows(copies, data.volume.id),
      ...last,
      end,
      unreadable: newlyBad(),
      reach: source.reach ?? null,
      noted: noting ? encodeAscending(noted, SECTOR) : null,
    };
    // The main thread takes one batch at a time: a slow database slows the reading, not the memory.
    while (Atomics.load(gate, GATE.taken) < sent) Atomics.wait(gate, GATE.taken, Atomics.load(gate, GATE.taken));
    parentPort?.postMessage(batch, [batch.rows.buffer as ArrayBuffer]);
    sent += 1;
    copies = [];
    noted = [];
    started = Date.now();
  };
  let known = bytesIn(data.bad);
  const newlyBad = () => {
    const bad = source.disk.unreadable(0, source.disk.size);
    const total = bytesIn(bad);
    if (total === known) return [];
    known = total;
    return bad;
  };
  const wanted = narrowed(data);
  const utc = zoneReader(data.timeZone);
  const inZone = (time: number | null) => (time === null ? null : utc(time));
  for (const batch of source.batches()) {
    for (const copy of batch.copies)
      if (wanted(copy))
        copies.push(
          source.localTimes(copy) ? { ...copy, localTimes: true, created: inZone(copy.created), modified: inZone(copy.modified) } : copy,
        );
    if (batch.noted) noting = true;
    for (const place of batch.noted ?? []) noted.push(place);
    last = {
      resume: batch.resume,
      done: batch.done,
      total: batch.total,
      sighted: batch.sighted ?? null,
      inMidst: batch.inMidst ?? false,
      sets: batch.sets ?? null,
    };
    const shows = copies.length > 0 || (last.sighted?.count ?? 0) > 0;
    if (copies.length >= data.batch || Date.now() - started > (sent === 0 && shows ? FIRST_MS : MAX_MS)) send(false);
  }
  send(true);
  source.close();
}

const bytesIn = (ranges: readonly Range[]) => ranges.reduce((sum, { start, end }) => sum + end - start, 0);

/** The part of the volume a pass keeps to, in bytes from its beginning. */
function partOf({ volume, options: { from = 0, to = 100 } }: PassThreadData): Range {
  return { start: Math.floor((volume.length * from) / 100), end: Math.ceil((volume.length * to) / 100) };
}

/** Whether a copy is one the pass was narrowed to. */
function narrowed(data: PassThreadData): (copy: Copy) => boolean {
  const { folder, kinds, from = 0, to = 100 } = data.options;
  const below = folder === undefined || folder === "/" ? "" : `${folder.replace(/\/+$/, "").normalize("NFC").toLowerCase()}/`;
  const whole = from === 0 && to === 100;
  const { start, end } = partOf(data);
  return (copy) => {
    if (below && !`${copy.path.normalize("NFC").toLowerCase()}/`.startsWith(below)) return false;
    if (copy.type === "folder") return true;
    if (kinds && kinds.length > 0 && !kinds.includes(kindOf(copy.name))) return false;
    if (whole || passKind(data.place).looksThroughBytes) return true;
    const first = firstByte(copy.layout);
    return first !== null && first - data.volume.offset >= start && first - data.volume.offset < end;
  };
}

run(workerData as PassThreadData);
