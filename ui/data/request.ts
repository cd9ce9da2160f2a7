import type { z } from "zod";

/** The server turned a request down; the message is its own words, meant for a person. */
export class RequestError extends Error {
  constructor(
    message: string,
    readonly status: number,
  ) {
    super(message);
    this.name = "RequestError";
  }
}

const UNREACHABLE = "The bench does not answer. Check that it is still running; nothing that was found is lost.";

async function send(path: string, init?: RequestInit): Promise<unknown> {
  const response = await fetch(path, init).catch(() => {
    throw new RequestError(UNREACHABLE, 0);
  });
  const body: unknown = await response.json().catch(() => null);
  if (response.ok) return body;
  const { problem } = (body ?? {}) as { problem?: string };
  throw new RequestError(problem ?? `The bench answered with an error (${response.status}).`, response.status);
}

/** Fetches and checks against the contract. @throws RequestError in words a person can read */
export async function read<T>(path: string, contract: z.ZodType<T>, signal?: AbortSignal): Promise<T> {
  return contract.parse(await send(path, signal ? { signal } : undefined));
}

/** Bytes in flight that browsers keep alive when a page is left, less some room for other requests (Fetch Standard, section 4.6: 64 KiB together). */
const KEPT_ALIVE = 32_768;

/** Asks the server to change something, also when the page is left right after. @throws RequestError in words a person can read */
export function write(method: "POST" | "PUT" | "PATCH" | "DELETE", path: string, body?: unknown, signal?: AbortSignal): Promise<unknown> {
  const ended = signal ? { signal } : {};
  if (body === undefined) return send(path, { method, keepalive: true, ...ended });
  const text = JSON.stringify(body);
  // A larger body is refused by the browser when it is to be kept alive, so it goes out as an ordinary request.
  const keepalive = new TextEncoder().encode(text).length <= KEPT_ALIVE;
  return send(path, { method, headers: { "Content-Type": "application/json" }, body: text, keepalive, ...ended });
}
