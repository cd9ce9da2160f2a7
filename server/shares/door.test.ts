import { spawnSync } from "node:child_process";
import { mkdtempSync, readFileSync } from "node:fs";
import http from "node:http";
import https from "node:https";
import net, { type AddressInfo } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { makeDoor } from "./door";
import { isOpenPath } from "./door-address";
import { newSecret } from "./secrets";

const hasOpenssl = spawnSync("openssl", ["version"]).status === 0;

/** What reached the bench, newest last. */
const reached: http.IncomingMessage[] = [];
const bench = http.createServer((request, response) => {
  reached.push(request);
  request.resume();
  if (request.url?.endsWith("/slow")) return;
  response.writeHead(200, { "Set-Cookie": "share=x", "Content-Type": "text/plain" });
  response.end("from the bench");
});
const listen = async (server: net.Server) => {
  await new Promise<void>((done) => server.listen(0, "127.0.0.1", done));
  return (server.address() as AddressInfo).port;
};
let door: http.Server | https.Server;
let port: number;
const share = `/shared/${newSecret()}`;

beforeAll(async () => {
  door = makeDoor({ host: "127.0.0.1", port: await listen(bench), secret: "the own word of the door", encrypted: null });
  port = await listen(door);
});
afterAll(() => {
  door.closeAllConnections();
  bench.closeAllConnections();
  door.close();
  bench.close();
});

/** How long nothing comes before it is taken for all. Milliseconds. */
const IDLE_MS = 3_000;

/** Sends just these bytes, as a browser never would. */
const raw = (text: string | Buffer): Promise<string> =>
  new Promise((done, fail) => {
    const socket = net.connect(port, "127.0.0.1", () => socket.write(text));
    socket.setTimeout(IDLE_MS, () => socket.end());
    let found = "";
    socket.on("data", (part) => (found += part.toString("latin1")));
    socket.on("close", () => done(found));
    socket.on("error", fail);
  });
const asked = async (path: string, init: { method?: string; headers?: Record<string, string>; body?: string } = {}) => {
  const before = reached.length;
  const { method = "GET", headers = {}, body = "" } = init;
  const lines = Object.entries({
    Host: "bench.example",
    Connection: "close",
    ...(body ? { "Content-Length": String(body.length) } : {}),
    ...headers,
  });
  const text = await raw(`${method} ${path} HTTP/1.1\r\n${lines.map(([name, value]) => `${name}: ${value}\r\n`).join("")}\r\n${body}`);
  return { status: Number(text.slice(9, 12)), text, through: reached.length > before ? reached.at(-1) : undefined };
};

describe("the door for clients", () => {
  it("lets through pages of shares and what they are made of", async () => {
    for (const path of [
      share,
      `${share}?view=handover`,
      `${share}/copies/12/picture?longest=large`,
      "/_next/static/chunks/app/page-1.js",
      "/icon.svg",
    ]) {
      const { status, text, through } = await asked(path);
      expect([path, status, through?.url]).toEqual([path, 200, path]);
      expect(text).toContain("from the bench");
    }
  });

  it("lets through nothing else, however it is written", async () => {
    const closed = ["/", "/api/jobs", "/api/health", "/jobs/1/items", "/settings", "/shared", "/shared/", "/shared/short"];
    const tricks = [
      `${share}/../../api/jobs`,
      `${share}/..%2f..%2fapi/jobs`,
      `${share}/%2e%2e/%2e%2e/api/jobs`,
      `${share}//api`,
      `${share}/a/b/c/d/e`,
      `${share};/api`,
      `${share}%00`,
      "/_next/static/../../api/jobs",
      "/_next/static/%2e%2e/%2e%2e/api/jobs",
      "/_next/static/..\\..\\api",
      "/_next/data/x.json",
      "/_next/image?url=/api/jobs",
      "//api/jobs",
      "http://127.0.0.1/api/jobs",
      `http://127.0.0.1${share}`,
      "*",
    ];
    for (const path of [...closed, ...tricks]) {
      const { status, through } = await asked(path);
      expect([path, through?.url]).toEqual([path, undefined]);
      expect([404, 400]).toContain(status);
      expect(isOpenPath(path)).toBe(false);
    }
    for (const method of ["PUT", "PATCH", "OPTIONS", "TRACE", "PROPFIND"]) expect((await asked(share, { method })).through).toBeUndefined();
  });

  it("hands on no header that could pass for another's, and says itself where the request came from", async () => {
    const { through } = await asked(share, {
      headers: {
        "X-Compass-Door": "guessed",
        "X-Compass-From": "8.8.8.8",
        "X-Forwarded-For": "127.0.0.1",
        "X-Forwarded-Host": "127.0.0.1",
        "X-Middleware-Subrequest": "proxy",
        "Next-Action": "abc",
        Cookie: "share=abc",
      },
    });
    expect(through?.headers).toMatchObject({ "x-compass-door": "the own word of the door", cookie: "share=abc", host: "bench.example" });
    expect(through?.headers["x-compass-from"]).toMatch(/127\.0\.0\.1$/);
    for (const name of ["x-forwarded-for", "x-forwarded-host", "x-middleware-subrequest", "next-action"])
      expect(through?.headers[name]).toBeUndefined();
  });

  it("no character of a request ends it", async () => {
    for (let code = 0; code < 256; code += 1) {
      const odd = String.fromCharCode(code);
      await raw(Buffer.from(`GET ${share}?q=a${odd}b HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n`, "latin1"));
      await raw(Buffer.from(`GET ${share} HTTP/1.1\r\nHost: x\r\nCookie: a=${odd}\r\nConnection: close\r\n\r\n`, "latin1"));
    }
    expect((await asked(share)).status).toBe(200);
  });

  it("a request cannot hide a second one in its body, nor be longer than it says (RFC 9112, 6.3)", async () => {
    const hidden = "GET /api/jobs HTTP/1.1\r\nHost: x\r\n\r\n";
    const before = reached.length;
    const both = await raw(
      `POST ${share}/session HTTP/1.1\r\nHost: x\r\nContent-Length: ${hidden.length}\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n${hidden}`,
    );
    expect(both).toMatch(/^HTTP\/1\.1 400/);
    await raw(`POST ${share}/session HTTP/1.1\r\nHost: x\r\nContent-Length: 2\r\n\r\n{}${hidden}`);
    expect(reached.slice(before).map(({ url }) => url)).not.toContain("/api/jobs");
    const long = await asked(`${share}/session`, { method: "POST", headers: { "Content-Length": "99999999" } });
    expect(long.status).toBe(413);
  });

  it("who asks for very much at once holds nobody else up for long: connections of one address are counted", async () => {
    let ended = 0;
    const held = Array.from({ length: 40 }, () => net.connect(port, "127.0.0.1"));
    for (const socket of held) {
      socket.on("error", () => undefined);
      socket.on("close", () => (ended += 1));
    }
    await expect.poll(() => ended, { timeout: 20_000 }).toBeGreaterThanOrEqual(16);
    for (const socket of held) socket.destroy();
    await expect.poll(async () => (await asked(share)).status, { timeout: 20_000 }).toBe(200);
  });

  it.skipIf(!hasOpenssl)(
    "is encrypted on its way with a certificate, and says so to the bench, so that the cookie is for such ways alone",
    async () => {
      const folder = mkdtempSync(join(tmpdir(), "compass-door-"));
      const [certificate, key] = [join(folder, "certificate.pem"), join(folder, "key.pem")];
      const made = spawnSync("openssl", [
        ...["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=bench.example"],
        ...["-addext", "subjectAltName=IP:127.0.0.1", "-keyout", key, "-out", certificate],
      ]);
      expect(made.status).toBe(0);
      const { port: behind } = bench.address() as AddressInfo;
      const secure = makeDoor({ host: "127.0.0.1", port: behind, secret: "s", encrypted: { certificate, key } });
      const at = await listen(secure);
      const status = await new Promise<number | undefined>((done, fail) => {
        // Trusts this one certificate: the connection is checked as a browser would.
        https
          .get({ host: "127.0.0.1", port: at, path: share, ca: readFileSync(certificate) }, (found) => done(found.statusCode))
          .on("error", fail);
      });
      expect(status).toBe(200);
      expect(reached.at(-1)?.headers["x-forwarded-proto"]).toBe("https");
      // Without encryption there is nothing at all.
      await expect(fetch(`http://127.0.0.1:${at}${share}`)).rejects.toThrow();
      secure.closeAllConnections();
      secure.close();
    },
  );

  it("closes a connection to the bench before the bench does: no request meets one that is just being closed", async () => {
    let connections = 0;
    let closedByBench = 0;
    const behind = http.createServer((_request, response) => response.end("x"));
    behind.keepAliveTimeout = 3_500;
    behind.on("connection", (socket: net.Socket) => {
      connections += 1;
      let heard = false;
      socket.on("end", () => (heard = true));
      socket.on("close", () => (closedByBench += heard ? 0 : 1));
    });
    const before = makeDoor({ host: "127.0.0.1", port: await listen(behind), secret: "s", encrypted: null, keepsMs: 300 });
    const at = await listen(before);
    const ask = async () => (await fetch(`http://127.0.0.1:${at}${share}`)).text();
    for (let turn = 0; turn < 2; turn += 1) {
      // Two in a row on one connection, then not for longer than the door keeps it.
      for (let request = 0; request < 2; request += 1) expect(await ask()).toBe("x");
      expect(connections).toBe(turn + 1);
      await new Promise((done) => setTimeout(done, 900));
    }
    expect(closedByBench).toBe(0);
    before.closeAllConnections();
    before.close();
    behind.close();
  });

  it("says so when the bench does not answer", async () => {
    const closed = makeDoor({ host: "127.0.0.1", port: 1, secret: "s", encrypted: null });
    const at = await listen(closed);
    const response = await fetch(`http://127.0.0.1:${at}${share}`);
    expect(response.status).toBe(503);
    expect(await response.json()).toEqual({ problem: "The bench does not answer just now. Try again in a moment." });
    closed.close();
  });
});
