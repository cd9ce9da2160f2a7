/** Work that gives how far it is from time to time, so that it can be done a while at a time. */
export class Stepwise<T> {
  /** How far it is, in what the work counts. */
  done = 0;
  #result: { readonly value: T } | null = null;

  constructor(private readonly steps: Generator<number, T>) {}

  /** Goes on for some milliseconds, or to the end. @returns null while it is not finished; what went wrong is thrown */
  run(milliseconds: number): { readonly value: T } | null {
    const until = performance.now() + milliseconds;
    while (!this.#result) {
      const { done, value } = this.steps.next();
      if (done) this.#result = { value };
      else this.done = value;
      if (performance.now() >= until) break;
    }
    return this.#result;
  }

  /** Gives it up: what it has opened is closed. */
  stop(): void {
    this.steps.return(undefined as never);
  }
}

/** Runs to the end what gives its progress from time to time. */
export function toEnd<T>(steps: Generator<unknown, T>): T {
  for (;;) {
    const { done, value } = steps.next();
    if (done) return value;
  }
}
