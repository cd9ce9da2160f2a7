/** What part of the disk is in sight. Bytes. */
export interface View {
  readonly start: number;
  readonly end: number;
}

export const MIN_SPAN = 4096;

/** Zooms by `factor` (below 1: nearer) around the byte `at`, staying on the disk. */
export function zoomed(view: View, factor: number, at: number, size: number): View {
  const span = Math.min(size, Math.max(MIN_SPAN, (view.end - view.start) * factor));
  const share = (at - view.start) / (view.end - view.start || 1);
  return placed(at - share * span, span, size);
}

/** Moves the view by a share of its width. */
export function moved(view: View, share: number, size: number): View {
  const span = view.end - view.start;
  return placed(view.start + share * span, span, size);
}

function placed(start: number, span: number, size: number): View {
  const from = Math.max(0, Math.min(start, size - span));
  return { start: from, end: from + span };
}

/**
 * How much of each of `width` columns a set of sorted stretches covers, 0 … 1. Works in one pass over the
 * stretches, so that tens of thousands of them cost no more than the columns they touch.
 */
export function coverage(stretches: readonly { start: number; end: number }[], view: View, width: number): Float32Array {
  const columns = new Float32Array(width);
  const perColumn = (view.end - view.start) / width;
  for (const { start, end } of stretches) {
    if (end <= view.start || start >= view.end) continue;
    const from = (Math.max(start, view.start) - view.start) / perColumn;
    const to = (Math.min(end, view.end) - view.start) / perColumn;
    for (let column = Math.floor(from); column < Math.min(width, Math.ceil(to)); column += 1) {
      columns[column] = Math.min(1, (columns[column] as number) + Math.min(to, column + 1) - Math.max(from, column));
    }
  }
  return columns;
}
