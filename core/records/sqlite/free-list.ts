import type { PageUse } from "./overflow";

/**
 * Marks the free pages (SQLite file format, 1.5): trunks, each a list of free pages that leads to the next one, and those they list.
 * @param first the first trunk; 0: there is none @returns how many free pages the lists name
 */
export function markFreePages({ pages, owners, roles, count, usable }: PageUse, first: number): number {
  const seen = new Set<number>();
  let marked = 0;
  for (let trunk = first; trunk > 1 && trunk <= count && !seen.has(trunk) && !owners[trunk]; ) {
    seen.add(trunk);
    const page = pages.get(trunk);
    if (!page) break;
    roles[trunk] = 2;
    const leaves = Math.min(page.bytes.readUInt32BE(4), usable / 4 - 2);
    for (let i = 0; i < leaves; i += 1) {
      const leaf = page.bytes.readUInt32BE(8 + i * 4);
      if (leaf > 1 && leaf <= count && !owners[leaf]) roles[leaf] = 3;
    }
    marked += 1 + leaves;
    trunk = page.bytes.readUInt32BE(0);
  }
  return marked;
}
