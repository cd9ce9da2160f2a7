/** Header by which the bench knows what comes through the door, with the secret both were started with. */
export const DOOR_HEADER = "x-compass-door";
/** Header with the address a request came from. */
export const FROM_HEADER = "x-compass-from";

/**
 * How long the bench keeps a connection nobody uses, and how long the door keeps one to the bench. Milliseconds. The bench waits longer:
 * whoever sends on a connection the other side closes at that moment gets no answer.
 */
export const BENCH_KEEPS_MS = 300_000;
export const DOOR_KEEPS_MS = 60_000;

/** What may be asked for from outside: pages of shares, and what these pages are made of. Nothing else of the bench is there. */
const OPEN = [/^\/shared\/[A-Za-z0-9_-]{43}(\/[A-Za-z0-9-]+){0,4}$/, /^\/_next\/static(\/(?!\.\.?(\/|$))[\w.~@()-]+)+$/, /^\/icon\.svg$/];

/** Says whether a path, with or without a query, may be asked for from outside. */
export function isOpenPath(url: string): boolean {
  const [path = ""] = url.split("?");
  return OPEN.some((pattern) => pattern.test(path));
}
