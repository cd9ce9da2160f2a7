const MOST_EXAMPLES = 5;

/** Counts how often something does not add up, and keeps some of the places. */
export class Tally {
  count = 0;
  readonly examples: string[] = [];

  add(example: string, count = 1): void {
    this.count += count;
    if (this.examples.length < MOST_EXAMPLES && !this.examples.includes(example)) this.examples.push(example);
  }
}

const words = (unit: string) => (start: number, end: number) => `${unit} ${start}${end - start > 1 ? ` to ${end - 1}` : ""}`;

/** A run of clusters in words; `end` is the one after the last. */
export const clusterWords = words("cluster");
/** The same of blocks, as a Mac's file systems call them. */
export const blockWords = words("block");
