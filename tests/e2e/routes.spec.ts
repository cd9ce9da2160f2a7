import { readdirSync, readFileSync } from "node:fs";
import { request as rawRequest } from "node:http";
import { join } from "node:path";
import { type APIRequestContext, expect, test } from "@playwright/test";

const API = join(import.meta.dirname, "../../app/api");

interface Route {
  /** As the folders have it: "jobs/[job]/items". */
  readonly path: string;
  readonly methods: readonly string[];
}

/** Every route there is, from the folders themselves: a new one is asked too. */
const routes: readonly Route[] = readdirSync(API, { recursive: true, encoding: "utf8" })
  .filter((file) => file.endsWith("route.ts"))
  .map((file) => ({
    path: file.replace(/\/?route\.ts$/, "").replaceAll("\\", "/"),
    methods: [...readFileSync(join(API, file), "utf8").matchAll(/export (?:const|async function) (GET|POST|PUT|PATCH|DELETE)\b/g)].map(
      ([, method = ""]) => method,
    ),
  }));

const IDS = ["0", "-1", "abc", "1e3", "99999999999", "999999999999999", "9".repeat(40), "%00", "1%27--", "..%2f..", "%F0%9F%94%AD"];
const WORDS = ["", "-1", "1e99", "NaN", "%00", "%27%22%3B--", "%25%5F%5C", "a".repeat(5000), "[]", "%7B%7D", "%E2%80%AE", "9".repeat(30)];
/** Names that the routes read from their addresses. */
const NAMES = [
  "q",
  "limit",
  "after",
  "at",
  "start",
  "end",
  "kind",
  "place",
  "sort",
  "year",
  "size",
  "folder",
  "condition",
  "path",
  "conflict",
  "for",
];
const BODIES: readonly unknown[] = [
  undefined,
  null,
  [],
  {},
  "text",
  0,
  { id: -1, items: ["x"], chosen: "yes" },
  { title: "x".repeat(100_000), client: [], path: "../../etc/passwd" },
  { items: Array(20_000).fill(1), chosen: true, matching: { q: "\u0000" } },
  { path: "\u0000", storeId: 1e308, place: "__proto__", options: { from: -5, to: 1000 } },
];

/** An answer to nonsense is a refusal a person can read, or something harmless; never a fault, and nothing of the inside. */
async function answers(request: APIRequestContext, method: string, address: string, body?: unknown): Promise<void> {
  const response = await request.fetch(address, {
    method,
    ...(body === undefined ? {} : { data: JSON.stringify(body), headers: { "content-type": "application/json" } }),
    timeout: 20_000,
    maxRedirects: 0,
  });
  const asked = `${method} ${address.slice(0, 120)} ${JSON.stringify(body)?.slice(0, 60) ?? ""}`;
  expect(response.status(), asked).toBeLessThan(500);
  if (response.status() < 400 || !(response.headers()["content-type"] ?? "").includes("json")) return;
  const { problem } = (await response.json()) as { problem?: string };
  expect(problem, asked).toMatch(/^[A-Z“].*[.?!]$|^(Invalid|Too|Expected|Unrecognized|Required)/);
  expect(problem, asked).not.toMatch(/node_modules|at \w+ \(|select .* from|\bstack\b/i);
}

const withIds = (path: string, id: string) => `/api/${path.replace(/\[\w+\]/g, id)}`;

test("the routes are found, those that change something among them", () => {
  expect(routes.length).toBeGreaterThan(40);
  expect(routes.filter(({ methods }) => methods.some((method) => method !== "GET")).length).toBeGreaterThan(8);
  expect(routes.every(({ methods }) => methods.length > 0)).toBe(true);
});

test("no address that means nothing is a fault", async ({ request }) => {
  test.setTimeout(120_000);
  for (const { path, methods } of routes) {
    if (!path.includes("[")) continue;
    for (const id of IDS)
      for (const method of methods) await answers(request, method, withIds(path, id), method === "GET" ? undefined : {});
  }
});

// The job's events go on without an end: they are asked of jobs that are not there, above.
for (const { path } of routes.filter(({ path, methods }) => methods.includes("GET") && !path.endsWith("events")))
  test(`no words in an address are a fault: ${path}`, async ({ request }) => {
    for (const [index, word] of WORDS.entries()) {
      const query = NAMES.map((name, i) => `${name}=${WORDS[(index + i) % WORDS.length]}`).join("&");
      await answers(request, "GET", `${withIds(path, "1")}?${query.slice(0, 7000)}`);
      await answers(request, "GET", `${withIds(path, "1")}?${NAMES[index % NAMES.length]}=${word}`);
    }
  });

test("no body is a fault, and none changes what it should not", async ({ request }) => {
  test.setTimeout(180_000);
  const titles = async () => ((await (await request.get("/api/jobs")).json()) as { id: number; title: string }[]).map(({ title }) => title);
  const before = await titles();
  for (const { path, methods } of routes)
    for (const method of methods) {
      if (method === "GET") continue;
      for (const body of BODIES) await answers(request, method, withIds(path, "987654321"), body);
    }
  // Only a body with a title of its own may have made a job.
  const after = await titles();
  expect(before.filter((title) => !after.includes(title))).toEqual([]);
  expect(after.filter((title) => !before.includes(title) && !/^x+$/.test(title))).toEqual([]);
});

test("other sites and other names are turned away", async ({ request }) => {
  for (const origin of ["https://elsewhere.example", "null", "not an origin", "http://127.0.0.1:1"]) {
    const response = await request.post("/api/jobs", { data: { title: "From elsewhere", client: "" }, headers: { origin } });
    expect(response.status(), origin).toBe(403);
  }
  const named = await request.get("/api/jobs", { headers: { host: "bench.elsewhere.example" } });
  expect(named.status()).toBe(421);
  const jobs = (await (await request.get("/api/jobs")).json()) as { title: string }[];
  expect(jobs.some(({ title }) => title === "From elsewhere")).toBe(false);
});

test("nothing is read by other sites, and every answer says what may be done with it", async ({ request, baseURL }) => {
  const site = { "sec-fetch-site": "cross-site", "sec-fetch-mode": "no-cors", "sec-fetch-dest": "image" };
  for (const path of ["/api/jobs", "/api/health", "/", "/settings", "/api/restores/1/zip"]) {
    const refused = await request.get(path, { headers: site });
    expect(refused.status(), path).toBe(403);
    expect(((await refused.json()) as { problem: string }).problem).toContain("another site");
  }
  // A link elsewhere may lead to a page, never to data.
  const link = { "sec-fetch-site": "cross-site", "sec-fetch-mode": "navigate", "sec-fetch-dest": "document" };
  expect((await request.get("/", { headers: link })).status()).toBe(200);
  expect((await request.get("/api/jobs", { headers: link })).status()).toBe(403);
  for (const path of ["/", "/api/jobs", "/api/nothing", "/icon.svg"]) {
    const headers = (await request.get(path)).headers();
    expect(headers["cross-origin-resource-policy"], path).toBe("same-origin");
    expect(headers["x-content-type-options"], path).toBe("nosniff");
  }
  // The policy of a route reaches the browser as the route gave it (CSP Level 3, 7.2: sandbox).
  expect((await request.get("/api/jobs")).headers()["content-security-policy"]).toBe("sandbox; default-src 'none'; frame-ancestors 'none'");
  const [job] = (await (await request.get("/api/jobs")).json()) as { id: number }[];
  const id = job?.id ?? ((await (await request.post("/api/jobs", { data: { title: "Policies" } })).json()) as { id: number }).id;
  const report = await request.get(`/api/jobs/${id}/report?form=html`);
  expect(report.headers()["content-security-policy"]).toBe("sandbox; default-src 'none'; style-src 'unsafe-inline'");
  expect((await request.get("/")).headers()["content-security-policy"]).toContain("frame-ancestors 'none'");
  // Methods that mean nothing here (RFC 9110, 9.3.8), numbers that are none, places to go on from that never were.
  const trace = await new Promise<number | undefined>((done, failed) =>
    rawRequest(new URL("/api/jobs", baseURL), { method: "TRACE" }, (response) => done(response.statusCode))
      .on("error", failed)
      .end(),
  );
  expect(trace).toBe(405);
  for (const path of [
    `/api/jobs/${id}/items?limit=1.5`,
    `/api/jobs/${id}/items?after=nonsense`,
    `/api/jobs/${id}/items?after=${Buffer.from('["a","b"]').toString("base64url")}`,
    "/api/copies/1/bytes?at=0.5",
    `/api/jobs/${id}/rehearsal?page=-1`,
  ])
    expect([400, 405], path).toContain((await request.get(path)).status());
});
