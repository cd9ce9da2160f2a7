import { mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import AxeBuilder from "@axe-core/playwright";
import { expect, type Page, test } from "@playwright/test";
import Papa from "papaparse";
import initSql from "sql.js";
import { longChat } from "../support/long-chat";
import { readRecords } from "../support/read-records";
import { recordsFiles, recordsTruth } from "../support/records-truth";

/** The page in view, by day and by night, has nothing that keeps anybody out (WCAG 2.2, as axe-core checks it). */
async function expectNoViolations(page: Page): Promise<void> {
  for (const colorScheme of ["dark", "light"] as const) {
    await page.emulateMedia({ colorScheme });
    const { violations } = await new AxeBuilder({ page }).analyze();
    expect(violations.map(({ id, nodes }) => `${id}: ${nodes.map((node) => node.target.join(" ")).join(", ")}`)).toEqual([]);
  }
}

/** A job with one folder, in it a recorded database with its log. @returns where its records are read */
async function openRecords(page: Page, name: string, folder: string): Promise<void> {
  const path = join(process.env.COMPASS_SOURCES as string, folder, "profile");
  mkdirSync(path, { recursive: true });
  for (const [file, bytes] of recordsFiles(name)) writeFileSync(join(path, file), bytes);
  const post = async (to: string, data: unknown) => (await (await page.request.post(to, { data })).json()) as { id: number };
  const { id } = await post("/api/jobs", { title: "A cleared history", client: "" });
  await post(`/api/jobs/${id}/sources`, { path: join(path, "..") });
  await readRecords(page, id);
  await page.goto(`/jobs/${id}/items?show=all&q=data.db`);
  await page
    .getByRole("grid", { name: "Items" })
    .getByRole("row")
    .filter({ hasText: /data\.db(?!-)/ })
    .first()
    .click();
  await page.getByRole("complementary", { name: "Inspector" }).getByRole("link", { name: "Read its records" }).click();
}

test("the rows of a database with its log are read, deleted ones among them, searched, and lead back", async ({ page }) => {
  const { live, deleted } = recordsTruth("log");
  await openRecords(page, "log", "club chat");
  const tables = page.getByRole("list", { name: "Tables" });
  const notes = tables.getByRole("button", { name: /^notes/ });
  await expect(notes).toContainText(String(live.notes?.length));
  await expect(notes).toContainText("deleted");
  await expect(page.getByText("Read with it: data.db-wal.")).toBeVisible();
  await notes.click();
  // One that was deleted and stands, by its own words.
  const gone = deleted.notes?.find(({ stands }) => stands)?.row as string[];
  await page.getByRole("textbox", { name: "Find in this table" }).fill(gone[1] as string);
  // The row stood in the whole table already: only the count tells that the search is done.
  await expect(page.getByRole("status")).toHaveText("1 row");
  const row = page
    .getByRole("table")
    .getByRole("row")
    .filter({ hasText: gone[1] as string });
  await expect(row).toHaveCount(1);
  await expect(row).toContainText("deleted, all of it stands");
  await expect(row).toContainText(gone[3] as string);
  // A time is shown as one: ECMA-262's calendar says which.
  await expect(row).toContainText(new Date(Number(gone[4])).toISOString().slice(0, 16).replace("T", " "));
  await page.reload();
  await expect(row).toHaveCount(1);
  const download = page.waitForEvent("download");
  await page.getByRole("link", { name: "Save as CSV" }).click();
  const { data } = Papa.parse<string[]>(readFileSync(await (await download).path(), "utf8"));
  expect(data).toHaveLength(2);
  expect(data[1]?.slice(0, 6)).toEqual(["deleted", "whole", String(gone[0]), gone[1], String(gone[2]), gone[3]]);
  // Its bytes: the text stands in the file from the marked line on, and stays in the address.
  await page
    .getByRole("table")
    .getByRole("button", { name: /^Bytes: In (the database|its log), byte / })
    .press("Enter");
  const bytes = page.getByRole("dialog");
  await expect(bytes.locator("mark")).toHaveCount(1);
  // Its file lies in a folder: where its drive has it nobody knows.
  await expect(bytes.getByText("on the disk at")).toHaveCount(0);
  const lines = (await bytes.locator("pre").textContent())?.split("\n") ?? [];
  const first = lines.indexOf((await bytes.locator("mark").textContent())?.trimEnd() ?? "");
  const characters = lines.slice(first, first + 20).map((line) => line.slice(-16));
  expect(characters.join("")).toContain(String(gone[1]).slice(0, 12));
  await page.reload();
  await expect(bytes.locator("mark")).toHaveCount(1);
  await expectNoViolations(page);
  await bytes.getByRole("button", { name: "Close" }).click();
  await expect(bytes).toHaveCount(0);
  await page.getByRole("textbox", { name: "Find in this table" }).fill("");
  await page.getByRole("button", { name: "Live", exact: true }).click();
  await expect(page.getByRole("status")).toHaveText(`${live.notes?.length} rows`);
  await expect(page.getByRole("table").getByText("deleted, all of it stands")).toHaveCount(0);
  await page.getByRole("link", { name: "Back to the item" }).click();
  await expect(page.getByRole("complementary", { name: "Inspector" }).getByRole("heading", { name: "data.db" })).toBeVisible();
});

test("a long chat is shown while it is read, then by day, and searched to its last message", async ({ page }) => {
  const long = 250_000;
  const path = join(process.env.COMPASS_SOURCES as string, "long chat", "profile");
  mkdirSync(path, { recursive: true });
  writeFileSync(join(path, "talk.db"), await longChat(long, 4));
  const post = async (to: string, data: unknown) => (await (await page.request.post(to, { data })).json()) as { id: number };
  const { id } = await post("/api/jobs", { title: "A long chat", client: "" });
  await post(`/api/jobs/${id}/sources`, { path: join(path, "..") });
  await readRecords(page, id);
  await page.goto(`/jobs/${id}/items?show=all&q=talk.db`);
  await page.getByRole("grid", { name: "Items" }).getByRole("row").filter({ hasText: "talk.db" }).first().click();
  await page.getByRole("complementary", { name: "Inspector" }).getByRole("link", { name: "Read its records" }).click();
  // Rows stand there while the rest is read.
  await expect(page.getByText(/^Reading the database: .+ rows so far\. Until all are, they stand as they are found\.$/)).toBeVisible();
  await expect(page.getByRole("table").getByRole("row").nth(5)).toContainText("of a long talk");
  const entries = page.getByRole("region", { name: "All entries" });
  const status = page.getByRole("region", { name: "Entries", exact: true }).getByRole("status");
  await expect(status).toHaveText(/^250\D000 messages, times in UTC$/, { timeout: 60_000 });
  await expect(entries.getByRole("heading", { level: 3 }).first()).toHaveText("Wednesday 1 January 2020");
  await entries.focus();
  await page.keyboard.press("End");
  const last = entries.getByRole("listitem").filter({ hasText: `line ${long} of a long talk` });
  await expect(last).toBeInViewport();
  await expect(last).toContainText("Member 1");
  await page.getByRole("textbox", { name: "Find in all of it" }).fill("LINE 249999 OF");
  await expect(status).toHaveText("1 message, times in UTC");
  await expect(entries.getByRole("listitem")).toHaveCount(1);
  // Too long for a page, not for a sheet.
  await page.getByRole("textbox", { name: "Find in all of it" }).fill("");
  await expect(status).toHaveText(/^250\D000 messages/);
  await expect(page.getByRole("link", { name: "JSON" })).toBeVisible();
  await expect(page.getByRole("link", { name: "a page" })).toHaveCount(0);
  await page
    .getByRole("list", { name: "Tables" })
    .getByRole("button", { name: /^lines/ })
    .click();
  const download = page.waitForEvent("download");
  await page.getByRole("link", { name: "Save as CSV" }).click();
  const lines = readFileSync(await (await download).path(), "utf8").split("\r\n");
  expect(lines).toHaveLength(long + 1);
  expect(lines.at(-1)).toContain(`line ${long} of a long talk`);
});

test("a database whose first page is gone is read by its pages, and says what is missing", async ({ page }) => {
  await openRecords(page, "first-page-zeroed", "broken chat");
  await expect(page.getByText(/Its first page is damaged: the names of tables and columns are gone/)).toBeVisible();
  // What its columns hold still shows what it was.
  await expect(page.getByRole("list", { name: "What it holds" }).getByRole("button", { name: /^Messages/ })).toBeVisible();
  const table = page.getByRole("list", { name: "Tables" }).getByRole("button").first();
  await expect(table).toContainText("its name is gone");
  await table.click();
  await expect(page.getByRole("table").getByRole("row").nth(1)).not.toHaveText("");
});

test("all messages are gone: the old database is found among those of its kind, and all of them become one", async ({ page }) => {
  await page.goto("/");
  await page.getByRole("link", { name: "All messages before February are gone" }).click();
  await page.waitForURL(/\/jobs\/\d+/);
  const job = Number(/jobs\/(\d+)/.exec(page.url())?.[1]);
  await readRecords(page, job);
  await page.goto(`/jobs/${job}/items?show=all&q=messages.db`);
  await page.getByRole("grid", { name: "Items" }).getByRole("row").filter({ hasText: "messages.db" }).first().click();
  await page.getByRole("complementary", { name: "Inspector" }).getByRole("link", { name: "Read its records" }).click();
  await page.getByRole("button", { name: "Databases of this kind" }).click();
  const candidates = page.getByRole("table", { name: "Candidates" });
  await expect(candidates.getByRole("row")).toHaveCount(4);
  // The one that was installed anew holds the last thirty days, as `demo/build-chat.ts` made it.
  const anew = candidates.getByRole("row").filter({ has: page.getByText(/^\/Users\/mo/) });
  await expect(anew).toContainText("2026-02-10");
  await expect(candidates.getByRole("row").nth(1)).toContainText("2024-09-01");
  await expectNoViolations(page);
  await page.getByRole("button", { name: "Show its rows" }).click();
  await expect(page.getByRole("region", { name: "All entries" }).getByRole("listitem").nth(5)).toBeVisible();
  await expectNoViolations(page);
  await page
    .getByRole("list", { name: "Tables" })
    .getByRole("button", { name: /^members/ })
    .click();
  await expect(page.getByRole("table").getByRole("row").nth(5)).toBeVisible();
  await expectNoViolations(page);
  await page.goBack();
  await page.goBack();
  const download = page.waitForEvent("download");
  await page.getByRole("link", { name: "Join the 3 chosen into one database" }).click();
  const path = await (await download).path();
  const sql = await initSql();
  const database = new sql.Database(readFileSync(path));
  expect(database.exec("pragma integrity_check")[0]?.values).toEqual([["ok"]]);
  const [count, people] = database.exec("select count(*) from messages; select count(*) from members").map(({ values }) => values[0]?.[0]);
  // Of 3,291 that were ever sent all but a few stand in one of the three, or what is left of them.
  expect(Number(count)).toBeGreaterThan(3200);
  expect(Number(count)).toBeLessThanOrEqual(3291);
  expect(people).toBe(6);
  database.close();
});

test("the old messages are read as conversations over all databases, and the pictures they mention go into the tray", async ({ page }) => {
  await page.goto("/");
  await page.getByRole("link", { name: "All messages before February are gone" }).click();
  await page.waitForURL(/\/jobs\/\d+/);
  const job = Number(/jobs\/(\d+)/.exec(page.url())?.[1]);
  const { passes } = { passes: await (await page.request.get(`/api/jobs/${job}/passes`)).json() } as { passes: unknown[] };
  if (passes.length === 0) await readRecords(page, job);
  await page.goto(`/jobs/${job}/items?show=all&q=messages.db`);
  await page.getByRole("grid", { name: "Items" }).getByRole("row").filter({ hasText: "messages.db" }).first().click();
  await page.getByRole("complementary", { name: "Inspector" }).getByRole("link", { name: "Read its records" }).click();
  await page.getByRole("button", { name: "Databases of this kind" }).click();
  await page.getByRole("button", { name: "Read the 3 chosen as one" }).click();
  await expect(page.getByRole("list", { name: "Read as one" }).getByRole("listitem")).toHaveCount(3);
  const entries = page.getByRole("region", { name: "All entries" });
  const status = page.getByRole("region", { name: "Entries", exact: true }).getByRole("status");
  await expect(status).toContainText(/^3\D?2\d\d messages/);
  // What was cleared on the old laptop in November stands among the others, said to be deleted.
  await page
    .getByRole("list", { name: "Conversations" })
    .getByRole("button", { name: /^Dome and rail/ })
    .click();
  await page.getByRole("textbox", { name: "From" }).fill("2025-11");
  await expect(entries.getByRole("heading", { level: 3 }).first()).toContainText("November 2025");
  await expect(entries.getByText(/^deleted, (not )?all of it stands; only in [A-C]$/).first()).toBeVisible();
  await expectNoViolations(page);
  // All of it stands in the address.
  await page.reload();
  await expect(entries.getByRole("heading", { level: 3 }).first()).toContainText("November 2025");
  await page
    .getByRole("list", { name: "Persons" })
    .getByRole("button", { name: /^Ines Halloran/ })
    .click();
  await expect(entries.getByRole("listitem").first()).toContainText("Ines Halloran");
  const download = page.waitForEvent("download");
  await page.getByRole("link", { name: "a page" }).click();
  const written = readFileSync(await (await download).path(), "utf8");
  expect(written).toContain("Only those in “Dome and rail”, of Ines Halloran, from 2025-11 on.");
  expect(written).toMatch(/deleted, (not )?all of it stands/);
  // The files they speak of: two whole, one under another name, one cut short, one nowhere.
  const mentioned = page.getByRole("complementary", { name: "Files mentioned" });
  const file = (name: string) => mentioned.getByRole("listitem").filter({ hasText: name });
  await expect(mentioned.getByRole("listitem")).toHaveCount(5);
  await expect(file("anniversary trails 302.jpg")).toContainText("same name and size");
  await expect(file("anniversary trails 311.jpg")).toContainText("same size and type, another name");
  await expect(file("key list.txt")).toContainText("shorter");
  await expect(mentioned.getByRole("checkbox", { name: "key list.txt" })).not.toBeChecked();
  await expect(file("quotation for the mirror.pdf")).toContainText("none like it in this job");
  await expect(mentioned.getByRole("checkbox", { name: "quotation for the mirror.pdf" })).toBeDisabled();
  await mentioned.getByRole("checkbox", { name: "rota spring.csv" }).press("Space");
  await mentioned.getByRole("button", { name: "Put 2 into the tray" }).click();
  await expect(file("anniversary trails 302.jpg")).toContainText("in the tray");
  await expect(page.getByRole("link", { name: /2 in tray/ })).toBeVisible();
  // The rows say where the application kept them: there they go, below the folder the database's own drive is in.
  await expect(mentioned.getByText(/^To the folders the application keeps them in/)).toHaveCount(0);
  const records = page.url();
  await page.getByRole("link", { name: /2 in tray/ }).click();
  const target = (name: string) => page.getByRole("region", { name: "Rehearsal" }).getByRole("row").filter({ hasText: name });
  await expect(target("anniversary trails 302.jpg")).toContainText(/Downloads\/Members Chat\/anniversary trails 302\.jpg, where the appl/);
  await expect(page.getByText("2 files go where an application expects them: close it meanwhile.")).toBeVisible();
  await page.goto(records);
  await file("anniversary trails 302.jpg").getByRole("link").click();
  await expect(
    page.getByRole("complementary", { name: "Inspector" }).getByRole("heading", { name: "anniversary trails 302.jpg" }),
  ).toBeVisible();
  // Another database in the place of this one, by keyboard; and all of an application's folder.
  await page.goto(records);
  await page.getByRole("button", { name: "Databases of this kind" }).click();
  await page.getByRole("button", { name: "Restore in place of this one" }).first().press("Enter");
  await expect(page.getByText("In the tray, with the logs that lie beside it, to be restored in place of this one")).toBeVisible();
  await expectNoViolations(page);
  const profile = page.getByRole("region", { name: "Its folder as a whole" });
  await profile.getByRole("button", { name: /into the tray$/ }).press("Enter");
  await expect(profile.getByRole("status")).toContainText("is in the tray, live and deleted: of each file the best copy");
  await page.getByRole("link", { name: /in tray/ }).click();
  await expect(target("messages.db").filter({ hasText: "where the application expects it" })).toHaveCount(1);
});

test("a web history is read as visits by day, by site, and what only the list of pages still has", async ({ page }) => {
  const sql = await initSql();
  const database = new sql.Database();
  database.run(
    "create table pages(id integer primary key, url text, title text, seen integer); create table visits(id integer primary key, page_id integer, at integer)",
  );
  for (let i = 0; i < 30; i += 1)
    database.run("insert into pages values(?, ?, ?, ?)", [
      i + 1,
      `https://site${i % 3}.example/${i}`,
      `Page ${i}`,
      Date.UTC(2026, 0, 1 + i),
    ]);
  for (let i = 0; i < 60; i += 1) database.run("insert into visits values(?, ?, ?)", [i + 1, 1 + (i % 28), Date.UTC(2026, 0, 1, i)]);
  const path = join(process.env.COMPASS_SOURCES as string, "web history", "profile");
  mkdirSync(path, { recursive: true });
  writeFileSync(join(path, "visited.db"), database.export());
  database.close();
  const post = async (to: string, data: unknown) => (await (await page.request.post(to, { data })).json()) as { id: number };
  const { id } = await post("/api/jobs", { title: "A web history", client: "" });
  await post(`/api/jobs/${id}/sources`, { path: join(path, "..") });
  await readRecords(page, id);
  await page.goto(`/jobs/${id}/items?show=all&q=visited.db`);
  await page.getByRole("grid", { name: "Items" }).getByRole("row").filter({ hasText: "visited.db" }).first().click();
  await page.getByRole("complementary", { name: "Inspector" }).getByRole("link", { name: "Read its records" }).click();
  const status = page.getByRole("region", { name: "Entries", exact: true }).getByRole("status");
  await expect(status).toContainText("62 pages visited");
  const entries = page.getByRole("region", { name: "All entries" });
  await expect(entries.getByRole("heading", { level: 3 }).first()).toHaveText("Thursday 1 January 2026");
  await page.getByRole("textbox", { name: "From" }).fill("2026-01-29");
  await expect(status).toContainText("2 pages visited");
  await expect(entries.getByText("last visit, by the list of pages")).toHaveCount(2);
  await page.getByRole("textbox", { name: "From" }).fill("");
  await page
    .getByRole("list", { name: "Sites" })
    .getByRole("button", { name: /^site1\.example/ })
    .press("Enter");
  await expect(status).toContainText(/2\d pages visited/);
  await page.getByText("Why it is read so").click();
  await expect(page.getByText(/page_id is the page, by the rows of pages it leads to/)).toBeVisible();
});

test("settings are shown as names and values, with their moments, and as they are written", async ({ page }) => {
  const made = JSON.parse(readFileSync(join(import.meta.dirname, "..", "fixtures", "settings.json"), "utf8")) as Record<string, string>;
  const path = join(process.env.COMPASS_SOURCES as string, "settings", "profile");
  mkdirSync(path, { recursive: true });
  writeFileSync(join(path, "window.plist"), Buffer.from(made.binary as string, "base64"));
  writeFileSync(join(path, "window.ini"), made.ini as string);
  const post = async (to: string, data: unknown) => (await (await page.request.post(to, { data })).json()) as { id: number };
  const { id } = await post("/api/jobs", { title: "Lost settings", client: "" });
  await post(`/api/jobs/${id}/sources`, { path: join(path, "..") });
  await readRecords(page, id);
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  const tree = inspector.getByRole("table", { name: "Names and values" });
  const show = async (name: string) => {
    await page.goto(`/jobs/${id}/items?show=all&q=${name}`);
    await page.getByRole("grid", { name: "Items" }).getByRole("row").filter({ hasText: name }).first().click();
  };
  await show("window.plist");
  await expect(tree.getByRole("row").filter({ hasText: "Observer" })).toContainText("Tove Brask");
  await expect(tree.getByRole("row").filter({ hasText: /^Opened/ })).toContainText("2026-03-11 21:40:05");
  await expectNoViolations(page);
  await show("window.ini");
  await expect(inspector.getByText("[Window]")).toBeVisible();
  await inspector.getByRole("button", { name: "Show names and values" }).press("Enter");
  await expect(tree.getByRole("row").filter({ hasText: "Last opened" })).toContainText("2026-03-11 21:40:05 UTC, seconds since 1970");
  await inspector.getByRole("button", { name: "Show text" }).click();
  await expect(inspector.getByText("[Window]")).toBeVisible();
});
