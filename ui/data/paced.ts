/** How long what is paced may take, or rest, at most before it is done anew. Milliseconds. */
const MOST_MS = 10_000;

/** Something that is done again and again, when it is asked for. */
export interface Paced {
  ask(): void;
  stop(): void;
}

/**
 * Does something when it is asked for, once at a time, and rests after it for as long as it took: then it never takes more than half of
 * the time, however slow the computer is. What is asked for meanwhile is done once after that.
 * @param quietMs the shortest rest, milliseconds
 */
export function paced(quietMs: number, work: () => Promise<unknown>): Paced {
  let timer: ReturnType<typeof setTimeout> | undefined;
  let isBusy = false;
  let isAsked = false;
  let isStopped = false;
  const ask = () => {
    if (isBusy) isAsked = true;
    else run();
  };
  const run = () => {
    isBusy = true;
    isAsked = false;
    const begun = Date.now();
    let isRested = false;
    const rest = (ms: number) => {
      if (isRested || isStopped) return;
      isRested = true;
      clearTimeout(timer);
      timer = setTimeout(() => {
        isBusy = false;
        if (isAsked) run();
      }, ms);
    };
    // What never ends must not keep the next from being done.
    timer = setTimeout(() => rest(0), MOST_MS);
    const ended = () => rest(Math.min(MOST_MS, Math.max(quietMs, Date.now() - begun)));
    work().then(ended, ended);
  };
  return {
    ask,
    stop: () => {
      isStopped = true;
      isBusy = true;
      clearTimeout(timer);
    },
  };
}
