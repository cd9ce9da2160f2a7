/** Pixels from which on a shift is not exact any more: browsers count shifts in 32-bit floating-point numbers, places in whole parts of a pixel. */
const STEP = 1 << 16;

/** Where a row stands in a tall list, exact to the pixel also at the end of a million rows. @param start pixels from the list's beginning */
export function rowPlace(start: number): { readonly top: number; readonly transform: string } {
  const top = Math.max(0, Math.floor(start / STEP)) * STEP;
  return { top, transform: `translateY(${start - top}px)` };
}
