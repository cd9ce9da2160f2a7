import { LzLoops } from "./lz-loops";

/**
 * Decodes LZVN, as the system of Macs compresses files and, within LZFSE, short blocks (the published reference decoder of LZFSE,
 * `lzvn_decode_base.c`, BSD licence, from memory).
 * @returns `length` bytes; those after a damage stay zero
 */
export function decodeLzvn(coded: Uint8Array, length: number): { bytes: Uint8Array; sound: boolean } {
  const loops = LzLoops.with(coded, length);
  const written = loops.code.lzvn(0, coded.length, loops.plain, 0, length) >>> 0;
  return { bytes: loops.result(written, length), sound: loops.code.damaged.value === 0 && written === length };
}
