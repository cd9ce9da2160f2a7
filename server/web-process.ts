import { Server, type ServerResponse } from "node:http";

/** Methods for which the web platform has no request at all (Fetch standard, "forbidden methods"): the framework would fail on them. */
const FORBIDDEN: ReadonlySet<string> = new Set(["TRACE", "TRACK", "CONNECT"]);

const shared = globalThis as unknown as { compassWebPrepared?: boolean };

/** Prepares the web server's process: it refuses methods that mean nothing, and ends with who started it. */
export function prepareWebProcess(): void {
  if (shared.compassWebPrepared) return;
  shared.compassWebPrepared = true;
  const emit = Server.prototype.emit;
  Server.prototype.emit = function (this: Server, event: string, ...args: unknown[]): boolean {
    const [request, response] = args as [{ method?: string } | undefined, ServerResponse | undefined];
    if (event === "request" && request?.method !== undefined && FORBIDDEN.has(request.method)) {
      response?.writeHead(405, { Allow: "GET, HEAD, POST, PUT, PATCH, DELETE", "Content-Type": "application/json" });
      response?.end(JSON.stringify({ problem: "This method means nothing here." }));
      return true;
    }
    return Reflect.apply(emit, this, [event, ...args]) as boolean;
  } as typeof emit;
  // Who started this process has died: nobody could end it any more.
  process.on("disconnect", () => process.exit(0));
}
