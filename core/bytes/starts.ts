/** The last of sorted numbers that is not greater than a value; -1: all are. */
export function lastNotAfter(starts: ArrayLike<number>, value: number): number {
  let low = 0;
  let high = starts.length;
  while (low < high) {
    const middle = (low + high) >>> 1;
    if ((starts[middle] as number) <= value) low = middle + 1;
    else high = middle;
  }
  return low - 1;
}
