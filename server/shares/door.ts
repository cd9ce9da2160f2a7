import { readFileSync } from "node:fs";
import http, { type IncomingMessage, type Server, type ServerResponse } from "node:http";
import https from "node:https";
import type { Socket } from "node:net";
import { DOOR_HEADER, DOOR_KEEPS_MS, FROM_HEADER, isOpenPath } from "./door-address";

const METHODS: ReadonlySet<string> = new Set(["GET", "HEAD", "POST", "DELETE"]);
/** What a client's browser may say to the bench; anything else stays outside. */
const PASSED = [
  "accept",
  "accept-language",
  "content-length",
  "content-type",
  "cookie",
  "host",
  "if-none-match",
  "next-router-prefetch",
  "next-router-segment-prefetch",
  "next-router-state-tree",
  "next-url",
  "origin",
  "range",
  "rsc",
  "sec-fetch-dest",
  "sec-fetch-mode",
  "sec-fetch-site",
  "user-agent",
];
/** Headers that mean one connection, not the message (RFC 9110, 7.6.1). */
const HOP = ["connection", "keep-alive", "proxy-authenticate", "proxy-connection", "te", "trailer", "transfer-encoding", "upgrade"];

/** Bytes of a request's body at most: a password, or a choice of files. */
const MOST_BODY = 1 << 16;
/** Connections from one address, and in all. */
const MOST_FROM_ONE = 24;
const MOST_CONNECTIONS = 256;
/** How long a connection may stand still. Milliseconds. */
const IDLE_MS = 120_000;

interface Door {
  /** Where the bench listens on this computer. */
  readonly host: string;
  readonly port: number;
  readonly secret: string;
  /** Files with certificate and key; null: the way is not encrypted. */
  readonly encrypted: { readonly certificate: string; readonly key: string } | null;
  /** How long a connection to the bench is kept that nobody uses. Milliseconds; less than the bench keeps it. */
  readonly keepsMs?: number;
}

function refuse(response: ServerResponse, status: number, problem: string): void {
  response.writeHead(status, { "Content-Type": "application/json", "Cache-Control": "no-store", Connection: "close" });
  response.end(JSON.stringify({ problem }));
}

/**
 * Makes the server clients reach from other computers. It hands requests for shared pages to the bench, which listens on this computer
 * alone, and answers no others. It knows nothing of passwords: the bench asks for them.
 */
export function makeDoor({ host, port, secret, encrypted, keepsMs = DOOR_KEEPS_MS }: Door): Server | https.Server {
  const agent = new http.Agent({ keepAlive: true, maxSockets: 64, timeout: keepsMs });
  const answer = (request: IncomingMessage, response: ServerResponse) => {
    if (!METHODS.has(request.method ?? "")) return refuse(response, 405, "This method means nothing here.");
    if (!isOpenPath(request.url ?? "")) return refuse(response, 404, "There is nothing at this address.");
    if (Number(request.headers["content-length"] ?? 0) > MOST_BODY) return refuse(response, 413, "This is too long.");
    const headers: http.OutgoingHttpHeaders = {
      [DOOR_HEADER]: secret,
      [FROM_HEADER]: request.socket.remoteAddress ?? "",
      "x-forwarded-proto": encrypted ? "https" : "http",
    };
    for (const name of PASSED) if (request.headers[name] !== undefined) headers[name] = request.headers[name];
    let onward: http.ClientRequest;
    try {
      onward = http.request({ host, port, method: request.method, path: request.url, headers, agent });
    } catch {
      // It holds characters no request may have.
      return refuse(response, 400, "The request is not valid.");
    }
    onward.on("response", (found) => {
      const given = { ...found.headers };
      for (const name of HOP) delete given[name];
      response.writeHead(found.statusCode ?? 502, given);
      found.pipe(response);
      found.on("error", () => response.destroy());
    });
    onward.on("error", () => {
      if (response.headersSent) response.destroy();
      else refuse(response, 503, "The bench does not answer just now. Try again in a moment.");
    });
    // Who goes away needs no answer: what the bench makes for it ends too.
    response.on("close", () => onward.destroy());
    let length = 0;
    request.on("data", (part: Buffer) => {
      length += part.length;
      if (length <= MOST_BODY) return void onward.write(part);
      onward.destroy();
      request.destroy();
    });
    request.on("end", () => onward.end());
    request.on("error", () => onward.destroy());
  };
  const settings = { requestTimeout: 30_000, headersTimeout: 15_000, keepAliveTimeout: 10_000, maxHeaderSize: 1 << 14 };
  const server = encrypted
    ? https.createServer({ ...settings, cert: readFileSync(encrypted.certificate), key: readFileSync(encrypted.key) }, answer)
    : http.createServer(settings, answer);
  server.maxConnections = MOST_CONNECTIONS;
  // Who takes nothing for so long holds nobody else up.
  server.setTimeout(IDLE_MS);
  const connected = new Map<string, number>();
  server.on("connection", (socket: Socket) => {
    const from = socket.remoteAddress ?? "";
    const now = (connected.get(from) ?? 0) + 1;
    if (now > MOST_FROM_ONE) return void socket.destroy();
    connected.set(from, now);
    socket.on("close", () => {
      const left = (connected.get(from) ?? 1) - 1;
      if (left > 0) connected.set(from, left);
      else connected.delete(from);
    });
  });
  return server;
}
