import { spawnSync } from "node:child_process";
import { existsSync, mkdirSync, readdirSync, readFileSync, truncateSync, writeFileSync } from "node:fs";
import { dirname, join } from "node:path";
import AxeBuilder from "@axe-core/playwright";
import { expect, type Page, test } from "@playwright/test";
import { verifyBag } from "../../io/verify-bag";
import { readRecords } from "../support/read-records";
import { fixture } from "../support/volume-truth";

const work = () => process.env.COMPASS_TEST_WORK ?? "";
const at = (name: "delivery" | "second" | "replacement", ...path: string[]) => join(work(), `e2e-${name}`, ...path);
const rehearsal = (page: Page) => page.getByRole("region", { name: "Rehearsal" });
const results = (page: Page) => page.getByRole("region", { name: /^Restore \d+$/ });
const filesBelow = (folder: string) =>
  existsSync(folder) ? readdirSync(folder, { recursive: true, withFileTypes: true }).filter((entry) => entry.isFile()) : [];

/** A job whose source is a folder of small files; all of them are in its tray. */
async function jobWithFiles(page: Page, title: string, count: number): Promise<number> {
  const folder = join(process.env.COMPASS_SOURCES as string, title);
  mkdirSync(join(folder, "Notes"), { recursive: true });
  for (let number = 0; number < count; number += 1)
    writeFileSync(
      join(folder, "Notes", `${title} ${number}.${number % 3 === 0 ? "csv" : "txt"}`),
      `note ${number} of ${title}\n`.repeat(40),
    );
  const post = async (to: string, data: unknown) => (await (await page.request.post(to, { data })).json()) as { id: number };
  const { id } = await post("/api/jobs", { title, client: "Larkfield" });
  await post(`/api/jobs/${id}/sources`, { path: folder });
  await readRecords(page, id);
  await chooseAll(page, id);
  return id;
}
const chooseAll = async (page: Page, id: number) =>
  expect((await page.request.post(`/api/jobs/${id}/tray`, { data: { everything: true, chosen: true } })).ok()).toBe(true);

async function choose(page: Page, label: string, option: string | RegExp): Promise<void> {
  await page.getByLabel(label, { exact: true }).click();
  await page.getByRole("option", { name: option }).click();
}

test("what is there already is compared first: the same is left, for all or for one kind", async ({ page }) => {
  const id = await jobWithFiles(page, "Compared notes", 12);
  await page.goto(`/jobs/${id}/restore`);
  await page.getByRole("button", { name: "Restore 12 files" }).click();
  await expect(results(page).first()).toContainText("12 of 12 files written, read again and the same", { timeout: 30_000 });
  const written = filesBelow(at("delivery", "Compared notes"));
  expect(written).toHaveLength(12);
  const changed = join(written[0]?.parentPath ?? "", written[0]?.name ?? "");
  writeFileSync(changed, "something else");
  await chooseAll(page, id);
  await page.goto(`/jobs/${id}/restore`);
  await expect(rehearsal(page)).toContainText("A file of that name is already there for 12");
  await choose(page, "If a file is already there", "compare first");
  await expect(rehearsal(page)).toContainText("byte for byte");
  await page.getByRole("button", { name: "Already there (12)" }).click();
  await expect(rehearsal(page).getByRole("row")).toHaveCount(13);
  const { violations } = await new AxeBuilder({ page }).analyze();
  expect(violations.map(({ id: rule }) => rule)).toEqual([]);
  await page.getByRole("button", { name: "Restore 12 files" }).click();
  await expect(results(page).first()).toContainText("11 there already with the same bytes", { timeout: 30_000 });
  await expect(results(page).first()).toContainText("1 of 12 files written");
  await expect(results(page).first().getByText("the same was there already")).toHaveCount(11);
  expect(readFileSync(changed, "utf8")).toBe("something else");
  // One was given a number: the list beside them says so.
  expect(filesBelow(at("delivery", "Compared notes"))).toHaveLength(14);
  expect(readFileSync(at("delivery", "Compared notes", "restored files.csv"), "utf8")).toContain(" (2).");
  // All of one kind otherwise: sheets are skipped, documents compared.
  await chooseAll(page, id);
  await page.goto(`/jobs/${id}/restore`);
  await choose(page, "If a file is already there", "compare first");
  await page.getByLabel("What to do with Sheets that are there").selectOption({ label: "leave it, skip mine" });
  await page.getByRole("button", { name: "Restore 12 files" }).click();
  await expect(results(page).first()).toContainText("4 skipped", { timeout: 30_000 });
});

test("by keys alone, a package for the archive is made on another device, and proves itself", async ({ page }) => {
  const id = await jobWithFiles(page, "Archived notes", 7);
  await page.goto(`/jobs/${id}/restore`);
  await expect(page.getByRole("button", { name: "Restore 7 files" })).toBeEnabled();
  const pick = async (label: string, option: RegExp) => {
    await page.getByLabel(label, { exact: true }).focus();
    await page.keyboard.press("Enter");
    await expect(page.getByRole("option", { name: option })).toBeVisible();
    for (let tries = 0; tries < 8; tries += 1) {
      if (await page.getByRole("option", { name: option }).evaluate((element) => element === document.activeElement)) break;
      await page.keyboard.press("ArrowDown");
    }
    await page.keyboard.press("Enter");
    await expect(page.getByRole("listbox")).toHaveCount(0);
  };
  await pick("Where", /e2e-second/);
  await pick("What is made", /package/);
  await expect(rehearsal(page)).toContainText("BagIt");
  await expect(rehearsal(page)).toContainText(at("second", "Archived notes"));
  await page.getByRole("button", { name: "Restore 7 files" }).focus();
  await page.keyboard.press("Enter");
  await expect(results(page).first()).toContainText("7 of 7 files written, read again and the same", { timeout: 30_000 });
  expect(verifyBag(at("second", "Archived notes"))).toMatchObject({ agreed: 7, problems: [] });
  expect(existsSync(at("delivery", "Archived notes"))).toBe(false);
  const report = JSON.parse(readFileSync(at("second", "Archived notes", "handover.json"), "utf8"));
  expect(report).toMatchObject({ format: "recovery-handover", job: { title: "Archived notes" } });
});

test("files go back to where they stood on a drive that takes the lost one's place", async ({ page }) => {
  const id = await jobWithFiles(page, "Back home", 5);
  await page.goto(`/jobs/${id}/restore`);
  await choose(page, "Where", /back to its place/);
  await expect(page.getByLabel("Folder in the delivery folder")).toHaveCount(0);
  await page.getByRole("button", { name: "Restore 5 files" }).click();
  await expect(results(page).first()).toContainText("5 of 5 files written", { timeout: 30_000 });
  expect(filesBelow(at("replacement", "Notes"))).toHaveLength(5);
});

test("a restore is paused, goes on elsewhere, and its files go out as TAR", async ({ page }) => {
  // The first file takes seconds to write and to read again: what is asked meanwhile finds the restore half-way.
  const large = join(process.env.COMPASS_SOURCES as string, "Paused notes", "A long one.txt");
  mkdirSync(dirname(large), { recursive: true });
  writeFileSync(large, "");
  truncateSync(large, 400 << 20);
  const id = await jobWithFiles(page, "Paused notes", 200);
  const start = await page.request.post(`/api/jobs/${id}/restores`, { data: { destination: "Paused notes" } });
  const { id: restore } = (await start.json()) as { id: number };
  const begun = () => filesBelow(at("delivery", "Paused notes")).length > 0;
  await expect.poll(begun, { intervals: [50] }).toBe(true);
  expect((await page.request.patch(`/api/restores/${restore}`, { data: { what: "pause" } })).ok()).toBe(true);
  await page.goto(`/jobs/${id}/restore`);
  await expect(results(page).first()).toContainText("Paused, 1 of 201 files settled");
  await page.getByRole("button", { name: "Write the rest to another folder …" }).click();
  await page.getByLabel("Folder in the delivery folder for the rest").fill("The rest of the notes");
  await page.getByRole("button", { name: "Write the rest there" }).click();
  await expect(page.getByRole("heading", { name: "Restored to “The rest of the notes”" })).toBeVisible({ timeout: 120_000 });
  const rest = results(page).filter({ hasText: "The rest of the notes" });
  await expect(rest).toContainText("files written, read again and the same", { timeout: 60_000 });
  const download = page.waitForEvent("download");
  await rest.getByRole("link", { name: "As TAR" }).click();
  const tar = readFileSync(await (await download).path());
  // A header of 512 bytes for each file, with the mark of the format at 257 (POSIX.1-1988, ustar).
  expect(tar.subarray(257, 262).toString("latin1")).toBe("ustar");
  expect(tar.length % 512).toBe(0);
  expect(filesBelow(at("delivery", "The rest of the notes")).length).toBeGreaterThan(0);
});

test("the handover comes as PDF, and its page says what to do from now on", async ({ page }) => {
  await page.goto("/");
  await page.getByRole("link", { name: "The old backup does not open" }).click();
  await page.getByRole("navigation", { name: "Stages of the job" }).getByRole("link", { name: "Handover" }).click();
  await expect(page.getByText("Restore a few files of each backup twice a year")).toBeVisible();
  const download = page.waitForEvent("download");
  await page.getByRole("link", { name: "PDF" }).click();
  const pdf = readFileSync(await (await download).path());
  expect(pdf.subarray(0, 8).toString("latin1")).toBe("%PDF-1.7");
  expect(pdf.subarray(-32).toString("latin1")).toContain("%%EOF");
  await page.getByRole("button", { name: "For the file" }).click();
  await expect(page.getByText(/Each entry of this log carries a hash/)).toBeVisible();
});

/** Makes a job with files that have named streams, chooses all of them, and opens the rehearsal. */
async function chooseStreams(page: Page, title: string): Promise<void> {
  const image = join(process.env.COMPASS_SOURCES as string, `${title}.img`);
  writeFileSync(image, fixture("ntfs-features.img.gz"));
  const post = async (to: string, data: unknown) => (await (await page.request.post(to, { data })).json()) as { id: number };
  const { id } = await post("/api/jobs", { title, client: "Larkfield" });
  await post(`/api/jobs/${id}/sources`, { path: image });
  await readRecords(page, id);
  await chooseAll(page, id);
  await page.goto(`/jobs/${id}/restore`);
}

test("named streams are kept with their files where that is chosen, and a result says what could not be", async ({ page }) => {
  await chooseStreams(page, "Kept with them");
  const streams = page.getByLabel(/named streams? of \d+ files?/);
  await streams.selectOption({ label: "are kept with their files, where the destination can hold them" });
  await page.getByRole("button", { name: /^Restore \d+ files$/ }).click();
  await expect(results(page).first()).toContainText("written, read again and the same", { timeout: 30_000 });
  const written = filesBelow(at("delivery", "Kept with them")).filter(({ name }) => name.endsWith(".txt"));
  const kept = written.flatMap(({ parentPath, name }) => {
    const { status, stdout } = spawnSync("getfattr", ["--absolute-names", "--", join(parentPath, name)], { encoding: "utf8" });
    return status === 0 ? (stdout.match(/^user\..+$/gm) ?? []) : [];
  });
  const left = await page.getByText(/named streams? \(/).count();
  // The device of the tests may hold none: then each file with streams says so.
  expect(kept.length > 0 || left > 0).toBe(true);
});

test("names by a pattern and second files beside are rehearsed and written as chosen, by the keyboard", async ({ page }) => {
  await chooseStreams(page, "Named and doubled");
  const names = page.getByLabel("Names, as {date} {name}");
  await names.focus();
  await page.keyboard.type("{number} {nam}");
  await expect(page.getByText(/A pattern of names has letters and .*; not \{nam\}/)).toBeVisible();
  await names.fill("{number} {name}");
  await expect(rehearsal(page).getByText(/0001 /).first()).toBeVisible();
  const streams = page.getByLabel(/named streams? of \d+ files?/);
  await streams.focus();
  await streams.selectOption({ label: "go along in a second file each, as “._name” (RFC 1740)" });
  await expect(
    rehearsal(page)
      .getByText(/\._\d{4} letter\.txt/)
      .first(),
  ).toBeVisible();
  const { violations } = await new AxeBuilder({ page }).analyze();
  expect(violations.map(({ id: rule }) => rule)).toEqual([]);
  const button = page.getByRole("button", { name: /^Restore \d+ files$/ });
  const count = Number((await button.textContent())?.match(/\d+/)?.[0]);
  await button.focus();
  await page.keyboard.press("Enter");
  await expect(results(page).first()).toContainText("written, read again and the same", { timeout: 30_000 });
  const written = filesBelow(at("delivery", "Named and doubled")).map(({ name }) => name);
  // The list of what each was called lies beside them.
  expect(written.filter((name) => name !== "restored files.csv")).toHaveLength(count);
  const seconds = written.filter((name) => name.startsWith("._"));
  expect(seconds.length).toBeGreaterThan(0);
  for (const name of seconds) expect(written).toContain(name.slice(2));
});
