import { createHash } from "node:crypto";
import { existsSync, mkdirSync, readFileSync, unlinkSync, writeFileSync } from "node:fs";
import { dirname, join } from "node:path";
import { expect, type Page, test } from "@playwright/test";
import { unzipped } from "../support/unzipped";
import { fixture, pathOf, readTruth } from "../support/volume-truth";

const delivery = () => process.env.COMPASS_DELIVERY as string;
const created = async (page: Page, title: string) =>
  ((await (await page.request.post("/api/jobs", { data: { title, client: "Larkfield" } })).json()) as { id: number }).id;

test("anywhere is a few letters away, and the stages are numbered", async ({ page }) => {
  await page.goto("/");
  const palette = page.getByRole("dialog", { name: "Go to" });
  // The keys are listened to as soon as the page has come to life.
  await expect(async () => {
    await page.keyboard.press("Control+k");
    await expect(palette).toBeVisible({ timeout: 1000 });
  }).toPass();
  await palette.getByRole("combobox", { name: "Go to" }).fill("new job");
  await page.keyboard.press("Enter");
  await page.getByRole("textbox", { name: "Title" }).fill("By keyboard");
  await page.getByRole("textbox", { name: "Client" }).fill("Nobody");
  await page.keyboard.press("Enter");
  await expect(page).toHaveURL(/\/jobs\/\d+\/account$/);
  for (const [key, stage] of [
    ["2", "sources"],
    ["3", "search"],
    ["4", "items"],
    ["5", "restore"],
    ["6", "handover"],
    ["1", "account"],
  ] as const) {
    await page.locator("body").press(key);
    await expect(page).toHaveURL(new RegExp(`/${stage}(\\?|$)`));
  }
  await page.locator("body").press("4");
  await page.locator("body").press("?");
  await expect(page.getByRole("dialog").getByText("choose all that match")).toBeVisible();
  await page.keyboard.press("Escape");
  await expect(page.getByRole("dialog")).toHaveCount(0);
  await page.keyboard.press("Control+k");
  await palette.getByRole("combobox", { name: "Go to" }).fill("no such thing at all");
  await expect(palette.getByText("Nothing of this name.")).toBeVisible();
});

test("jobs are found by words, put into the archive and taken out of it", async ({ page }) => {
  await created(page, "Attic shelf");
  await created(page, "Cellar shelf");
  await page.goto("/");
  const jobs = page.getByRole("main").getByRole("listitem");
  await expect(jobs.filter({ hasText: "Attic shelf" })).toBeVisible();
  await page.getByRole("textbox", { name: "Find a job" }).fill("attic");
  await expect(jobs).toHaveCount(1);
  await expect(jobs.first()).toContainText("What was lost is not written down yet.");
  await jobs.first().getByRole("button", { name: "Archive" }).click();
  await expect(page.getByText("No job holds these words.")).toBeVisible();
  await page.getByRole("button", { name: /^Archive \(\d+\)$/ }).click();
  await expect(jobs.filter({ hasText: "Attic shelf" })).toBeVisible();
  // Words and archive stand in the address, so they survive a reload.
  await page.reload();
  await jobs.filter({ hasText: "Attic shelf" }).getByRole("button", { name: "Take out" }).click();
  await expect(page.getByText("The archive is empty.").or(page.getByText("No job holds these words."))).toBeVisible();
  await page.getByRole("button", { name: "Open jobs" }).click();
  await expect(jobs.filter({ hasText: "Attic shelf" })).toBeVisible();
  await page.getByRole("textbox", { name: "Find a job" }).fill("shelf");
  await expect(jobs).toHaveCount(2);
});

test("the settings say what the bench reads and writes; day and night are remembered", async ({ page }) => {
  await page.goto("/settings");
  for (const folder of [process.env.COMPASS_SOURCES, delivery(), process.env.COMPASS_DATA])
    await expect(page.getByText(folder as string, { exact: true })).toBeVisible();
  await expect(page.getByText("may be read themselves, but for the bench’s own")).toBeVisible();
  const ground = () => page.evaluate(() => getComputedStyle(document.body).backgroundColor);
  await page.getByRole("button", { name: "Day", exact: true }).click();
  const day = await ground();
  await page.getByRole("button", { name: "Night", exact: true }).click();
  await expect.poll(ground).not.toBe(day);
  await page.reload();
  await expect.poll(ground).not.toBe(day);
  await page.goto("/");
  await expect.poll(ground).not.toBe(day);
});

test("a restore is followed file by file: what is in the way, what failed, and how it came out at last", async ({ page }) => {
  const path = join(process.env.COMPASS_SOURCES as string, "for-restoring.img");
  writeFileSync(path, fixture("ntfs-4kn.img.gz"));
  const truth = readTruth("ntfs-4kn");
  const id = await created(page, "Results file by file");
  const source = (await (await page.request.post(`/api/jobs/${id}/sources`, { data: { path } })).json()) as { id: number };
  expect(source.id).toBeGreaterThan(0);
  await page.goto(`/jobs/${id}/search`);
  await page.getByRole("button", { name: "Read records" }).click();
  await expect(page.getByText(/finished in/)).toBeVisible({ timeout: 30_000 });
  type Listed = { items: { id: number; name: string; folder: string; size: number; condition: string }[] };
  const { items } = (await (await page.request.get(`/api/jobs/${id}/items?limit=400&condition=whole`)).json()) as Listed;
  const intact = new Map(truth.entries.filter((entry) => entry.state === "deleted-intact").map((entry) => [pathOf(entry), entry.sha256]));
  const known = items.filter((item) => item.size > 0 && intact.has(`${item.folder}/${item.name}`.normalize("NFC")));
  // Two of them in folders of their own.
  const first = known[0];
  const second = known.find((item) => item.folder !== first?.folder && !item.folder.startsWith(`${first?.folder}/`));
  if (!first || !second) throw new Error("the volume has no two such files");
  await page.request.post(`/api/jobs/${id}/tray`, { data: { items: [first.id, second.id], chosen: true } });
  await page.goto(`/jobs/${id}/restore`);
  const rehearsal = page.getByRole("region", { name: "Rehearsal" });
  await expect(rehearsal.getByText("is written anew")).toHaveCount(2);
  const plan = (await (
    await page.request.post(`/api/jobs/${id}/rehearsal`, { data: { destination: "File by file", conflict: "keep-both" } })
  ).json()) as { files: { itemId: number; target: string }[] };
  const target = (item: { id: number }) => plan.files.find((file) => file.itemId === item.id)?.target as string;
  // A newer version of the one is there already; where the other's folder should be made, a file stands.
  mkdirSync(dirname(target(first)), { recursive: true });
  writeFileSync(target(first), "today's version");
  mkdirSync(dirname(dirname(target(second))), { recursive: true });
  writeFileSync(dirname(target(second)), "in the way");
  // What is typed before the page has come to life is not heard.
  const destination = page.getByRole("textbox", { name: /folder/i });
  await expect(async () => {
    await destination.fill("");
    await destination.fill("File by file");
    await expect(rehearsal.getByRole("combobox", { name: /What to do with/ })).toBeVisible({ timeout: 2000 });
  }).toPass();
  await rehearsal.getByRole("combobox", { name: /What to do with/ }).selectOption("skip");
  await rehearsal.getByRole("button", { name: "Restore 2 files" }).click();
  const restore = page.getByRole("region", { name: /^Restore \d+$/ }).first();
  await expect(restore.getByRole("status")).toContainText("0 of 2 files written, read again and the same, 1 skipped, 1 not restored", {
    timeout: 30_000,
  });
  await expect(restore.getByText("A file of this name is already there; it was left as it is.")).toBeVisible();
  expect(readFileSync(target(first), "utf8")).toBe("today's version");
  await expect(restore.getByText(/in the way/)).toBeVisible();
  unlinkSync(dirname(target(second)));
  await restore.getByRole("button", { name: "Try the failed ones again" }).click();
  await expect(restore.getByRole("status")).toContainText("1 of 2 files written, read again and the same", { timeout: 30_000 });
  expect(existsSync(target(second))).toBe(true);
  const hash = intact.get(`${second.folder}/${second.name}`.normalize("NFC")) as string;
  await expect(restore.getByText(hash)).toBeVisible();
  const download = page.waitForEvent("download");
  await restore.getByRole("link", { name: "Download all as ZIP" }).click();
  const members = await unzipped(readFileSync(await (await download).path()));
  // The file that was written, and what became of the other.
  expect(members.get("Remarks.txt")?.toString()).toContain("A file of this name is already there");
  members.delete("Remarks.txt");
  expect([...members.values()].map((bytes) => createHash("sha256").update(bytes).digest("hex"))).toEqual([hash]);
});
