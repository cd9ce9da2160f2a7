import { mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import AxeBuilder from "@axe-core/playwright";
import { expect, type Page, test } from "@playwright/test";
import Papa from "papaparse";
import initSql from "sql.js";
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
  await page.getByRole("textbox", { name: "Find in this table" }).fill("");
  await page.getByRole("button", { name: "Live", exact: true }).click();
  await expect(page.getByRole("status")).toHaveText(`${live.notes?.length} rows`);
  await expect(page.getByRole("table").getByText("deleted, all of it stands")).toHaveCount(0);
  await page.getByRole("link", { name: "Back to the item" }).click();
  await expect(page.getByRole("complementary", { name: "Inspector" }).getByRole("heading", { name: "data.db" })).toBeVisible();
});

test("a database whose first page is gone is read by its pages, and says what is missing", async ({ page }) => {
  await openRecords(page, "first-page-zeroed", "broken chat");
  await expect(page.getByText(/Its first page is damaged: the names of tables and columns are gone/)).toBeVisible();
  await expect(page.getByRole("list", { name: "Tables" }).getByRole("button").first()).toContainText("its name is gone");
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
  await expect(page.getByRole("table").getByRole("row").nth(5)).toBeVisible();
  await expectNoViolations(page);
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
