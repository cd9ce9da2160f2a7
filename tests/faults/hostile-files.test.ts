import { mkdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { processorTimeOf } from "../../io/processor-time";
import { freePort } from "../../scripts/cluster";
import { type Service, startAnsweringWeb } from "../../scripts/services";
import { readFolder, startTestBench, type TestBench } from "../support/bench";
import { hostileFiles } from "../support/hostile-files";
import { LONG } from "./three-checks";

let bench: TestBench;
let web: Service;
let address: string;
/** The copy of each file, by its name. */
const copies = new Map<string, number>();
const files = hostileFiles(LONG);

beforeAll(async () => {
  bench = await startTestBench();
  const folder = join(bench.sources, "hostile");
  mkdirSync(folder);
  for (const file of files) writeFileSync(join(folder, file.name), await file.bytes());
  const { items } = await readFolder(bench, folder, "Hostile");
  for (const item of items) copies.set(item.name, item.bestCopyId as number);
  const port = await freePort();
  address = `http://127.0.0.1:${port}`;
  web = await startAnsweringWeb("127.0.0.1", port, { ...process.env, NODE_ENV: "production", COMPASS_PORT: String(port) });
}, 180_000);
afterAll(async () => {
  await web?.stop();
  await bench.close();
});

/** A web server that works so long while it gives another answer was held up by what was asked of it. Milliseconds of its processor time: a busy machine does not lengthen them. */
const HELD_UP = 1_000;

/** Asks the web server for its health again and again while something else is asked of it; gives how long it worked and how long each answer took. */
async function whileAsking(work: Promise<void>): Promise<{ busy: number; times: number[] }> {
  let pending = true;
  void work.catch(() => undefined).finally(() => (pending = false));
  const server = web.process.pid as number;
  const times: number[] = [];
  let busy = 0;
  do {
    const [before, began] = [processorTimeOf(server), performance.now()];
    const response = await fetch(`${address}/api/health`);
    expect(response.status).toBe(200);
    busy = Math.max(busy, processorTimeOf(server) - before);
    times.push(performance.now() - began);
    await new Promise((done) => setTimeout(done, 5));
  } while (pending);
  await work;
  return { busy, times: times.sort((a, b) => a - b) };
}

/** What the screen asks for of a copy, by its form. */
const ROUTES: Readonly<Record<string, readonly string[]>> = {
  picture: ["picture?longest=large", "thumbnail"],
  document: ["document"],
  tables: ["tables?rows=shown"],
  archive: ["archive"],
  text: ["text"],
};

describe("a hostile file", () => {
  it.each(files.map(({ name }) => name))(
    "%s is answered in words or shown, and holds up nobody",
    async (name) => {
      const copy = copies.get(name);
      expect(copy).toBeDefined();
      const ask = async (route: string, method = "GET") => {
        const response = await fetch(`${address}/api/copies/${copy}/${route}`, { method });
        const body = response.headers.get("content-type")?.includes("json") ? await response.json() : await response.arrayBuffer();
        expect([200, 404, 409, 413, 422], `${route}: ${JSON.stringify(body).slice(0, 200)}`).toContain(response.status);
        if (response.status !== 200) expect((body as { problem: string }).problem).toMatch(/^[A-Z].*\.$/);
        return body;
      };
      const { busy, times } = await whileAsking(
        (async () => {
          const { form } = (await ask("form")) as { form: string };
          const routes = [...(ROUTES[form] ?? []), "bytes?at=0&length=4096", ...(LONG ? ["outline", "repair"] : [])];
          for (const route of routes) await ask(route);
          await ask("check", "POST");
        })(),
      );
      const p95 = times[Math.floor(times.length * 0.95)] ?? 0;
      console.log(`${name}: p95 of other answers ${Math.round(p95)} ms, the server busy for at most ${busy} ms`);
      expect(busy).toBeLessThan(HELD_UP);
    },
    300_000,
  );
});
