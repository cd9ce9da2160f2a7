import { createHash } from "node:crypto";
import { mkdirSync, readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import AxeBuilder from "@axe-core/playwright";
import { expect, type Page, test } from "@playwright/test";
import { backupFile, backupJson, damagedBackups } from "../support/backup-truth";
import { chooseRow } from "../support/choose-row";
import { readRecords } from "../support/read-records";

const delivery = () => join(process.env.COMPASS_TEST_WORK ?? "", "e2e-delivery");
const items = (page: Page) => page.getByRole("grid", { name: "Items" }).getByRole("row");

test.describe.configure({ mode: "serial" });

async function openJob(page: Page, stage: string): Promise<void> {
  await page.goto("/");
  await page.getByRole("link", { name: "The old backup does not open" }).click();
  await page.getByRole("navigation", { name: "Stages of the job" }).getByRole("link", { name: stage }).click();
}

test("an old backup with a bad stretch is read lightly, then thoroughly, and each says what it found", async ({ page }) => {
  await openJob(page, "Search");
  await page.getByRole("button", { name: "Read lightly" }).click();
  const passes = page.getByRole("list", { name: "Passes" }).getByRole("listitem");
  await expect(passes.filter({ hasText: "Light reading of Clubhouse 2011" })).toContainText("finished in", { timeout: 30_000 });
  // The catalogue lies behind the bad stretch: from file to file nothing leads there.
  await openJob(page, "Items");
  await page
    .getByRole("searchbox")
    .or(page.getByPlaceholder(/exact phrase/))
    .first()
    .fill("star catalogue");
  await expect(items(page).filter({ hasText: "Star catalogue" })).toHaveCount(0);
  await openJob(page, "Search");
  await page.getByRole("button", { name: "Read thoroughly" }).click();
  await expect(passes.filter({ hasText: "Thorough reading of Clubhouse 2011" })).toContainText("finished in", { timeout: 30_000 });
  await openJob(page, "Sources");
  await expect(page.getByText(/Stretches of the backup file are damaged/)).toBeVisible({ timeout: 30_000 });
  await expect(page.getByRole("region", { name: "Structure" }).or(page.locator("main")).first()).toContainText("Backup file or archive");
  const { violations } = await new AxeBuilder({ page }).analyze();
  expect(violations.map(({ id }) => id)).toEqual([]);
});

test("the star catalogue missed since years comes out of it, whole", async ({ page }) => {
  await openJob(page, "Items");
  await page.getByPlaceholder(/exact phrase/).fill("star catalogue");
  const row = items(page).filter({ hasText: "Star catalogue of the society.xlsx" });
  await expect(row).toHaveCount(1);
  await expect(row).toContainText("whole");
  await row.click();
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  // Its cells are shown, from the backup as it lies there; both sets have it.
  await expect(inspector).toContainText("LOS 0001", { timeout: 30_000 });
  await expect(inspector).toContainText(/2 copies|Copies/);
  await chooseRow(row);
  await openJob(page, "Restore");
  await page.getByRole("button", { name: /^Restore \d/ }).click();
  await expect(page.getByText("read again and the same")).toBeVisible({ timeout: 30_000 });
  const written = readdirSync(delivery(), { recursive: true, withFileTypes: true }).find(
    ({ name }) => name === "Star catalogue of the society.xlsx",
  );
  // A workbook is an archive: its end record stands where its bytes are all there.
  const bytes = readFileSync(join(written?.parentPath ?? "", written?.name ?? ""));
  expect(bytes.subarray(-22, -18).toString("latin1")).toBe("PK\x05\x06");
});

test("an archive whose list of contents is gone is opened where it lies, and gives its members back", async ({ page }) => {
  const folder = join(process.env.COMPASS_SOURCES as string, "old archives");
  mkdirSync(folder, { recursive: true });
  writeFileSync(
    join(folder, "papers.zip"),
    damagedBackups("zip-damaged").find(({ name }) => name === "open-zip-plain-central-cut")?.bytes ?? "",
  );
  writeFileSync(join(folder, "sound.bkf"), backupFile("tape-small.bkf"));
  const post = async (to: string, data: unknown) => (await (await page.request.post(to, { data })).json()) as { id: number };
  const { id } = await post("/api/jobs", { title: "Archives in a folder", client: "" });
  await post(`/api/jobs/${id}/sources`, { path: folder });
  await readRecords(page, id);
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  for (const name of ["papers.zip", "sound.bkf"]) {
    await page.goto(`/jobs/${id}/items?show=all&q=${name}`);
    await items(page).filter({ hasText: name }).first().click();
    await inspector.getByRole("button", { name: "Open what is inside" }).click();
    await expect(inspector.getByText("It is a source of its own now")).toBeVisible();
  }
  await page.goto(`/jobs/${id}/search`);
  const thoroughly = page.getByRole("button", { name: "Read thoroughly" });
  await expect(thoroughly).toHaveCount(2);
  await thoroughly.first().click();
  await expect(thoroughly).toHaveCount(1);
  await thoroughly.first().click();
  await expect(page.getByText(/finished in/)).toHaveCount(3, { timeout: 40_000 });
  const { originals } = backupJson<{ originals: { file?: string; members: { name: string; sha256: string | null }[] }[] }>("zip.json");
  const member = originals.find(({ file }) => file === "open-zip-plain.zip")?.members.find(({ name }) => name.endsWith("copper 21.pdf"));
  await page.goto(`/jobs/${id}/items?show=all&q=copper`);
  const row = items(page).filter({ hasText: "copper 21.pdf" });
  await expect(row).toContainText("whole");
  await chooseRow(row);
  await page.goto(`/jobs/${id}/restore`);
  await page.getByRole("button", { name: /^Restore \d/ }).click();
  await expect(page.getByText("read again and the same")).toBeVisible({ timeout: 30_000 });
  const written = readdirSync(delivery(), { recursive: true, withFileTypes: true }).find(({ name }) => name === "copper 21.pdf");
  const hash = createHash("sha256")
    .update(readFileSync(join(written?.parentPath ?? "", written?.name ?? "")))
    .digest("hex");
  expect(hash).toBe(member?.sha256);
});

test("a file of a damaged archive whose size is not known is never shown as an empty one, nor restored as one", async ({ page }) => {
  // Written as a stream, sizes stand behind the data: the list of contents is gone, and what stands behind one file is damaged.
  const bytes = Buffer.from(backupFile("zip-stored-stream.zip"));
  const cut = bytes.subarray(0, bytes.indexOf("PK\u0001\u0002", 0, "latin1"));
  const at = cut.indexOf("PK\u0007\u0008", 0, "latin1");
  cut.fill(0xee, at, at + 16);
  const name = cut.subarray(30, 30 + cut.readUInt16LE(26)).toString();
  const path = join(process.env.COMPASS_SOURCES as string, "stream.zip");
  writeFileSync(path, cut);
  const post = async (to: string, data: unknown) => (await (await page.request.post(to, { data })).json()) as { id: number };
  const { id } = await post("/api/jobs", { title: "A stream that broke", client: "" });
  await post(`/api/jobs/${id}/sources`, { path });
  await page.goto(`/jobs/${id}/sources`);
  await expect(page.getByText(/The list of contents of this archive is gone/)).toBeVisible();
  await page.goto(`/jobs/${id}/search`);
  await page.getByRole("button", { name: "Read lightly" }).click();
  await expect(page.getByRole("list", { name: "Passes" }).getByRole("listitem").first()).toContainText("finished in", { timeout: 30_000 });
  await page.goto(`/jobs/${id}/items?show=all`);
  const row = items(page).filter({ hasText: name.split("/").at(-1) as string });
  await expect(row).toContainText("not checked");
  await expect(page.getByRole("button", { name: /^to 10 KiB/ })).toBeVisible();
  await expect(page.getByRole("button", { name: /^empty/ })).toBeHidden();
  await expect(row.getByTitle("not known")).toHaveText("–");
  await row.click();
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  await expect(inspector).toContainText("How long it is stands behind its content");
  await expect(inspector).toContainText("kept in a way that is not followed here");
  await expect(inspector).toContainText("Bytes leftnot known");
  await expect(inspector).not.toContainText("The file is empty");
  await page.keyboard.press("Space");
  const large = page.getByRole("dialog", { name: /^Preview of/ });
  await expect(large).toContainText("size not known");
  await page.keyboard.press("Escape");
  await expect(large).toBeHidden();
  await chooseRow(row);
  await page.goto(`/jobs/${id}/restore`);
  await expect(page.getByText(/is kept in a way that is not followed here/).first()).toBeVisible();
});
