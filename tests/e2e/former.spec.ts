import { createHash } from "node:crypto";
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { expect, test } from "@playwright/test";
import { readBytes } from "../../core/bytes/byte-source";
import { inspectDisk, type VolumeReport } from "../../core/volumes/inspect";
import { chooseRow } from "../support/choose-row";
import { type DrivenVolume, drivenOverBy } from "../support/driven-volumes";
import { copiesOf, hashOf } from "../support/mac-truth";
import { readRecords } from "../support/read-records";

test("a drive formatted as another kind: what was on it is read from its leftovers, said not to be proven, and restored byte for byte", async ({
  page,
}) => {
  test.setTimeout(180_000);
  const [{ truth, open }] = drivenOverBy("ntfs-over-exfat") as [DrivenVolume];
  const path = join(process.env.COMPASS_SOURCES as string, "formatted again.img");
  const disk = open();
  writeFileSync(path, readBytes(disk, 0, disk.size));
  const post = async (to: string, data: unknown) => (await (await page.request.post(to, { data })).json()) as { id: number };
  const { id } = await post("/api/jobs", { title: "Formatted as another kind", client: "" });
  await post(`/api/jobs/${id}/sources`, { path });
  await readRecords(page, id);
  await page.goto(`/jobs/${id}/search`);
  await page.getByRole("listitem").filter({ hasText: "Leftover records of" }).getByRole("button", { name: "Read leftovers" }).click();
  const pass = page.getByRole("list", { name: "Passes" }).getByRole("listitem").filter({ hasText: "Leftover records of" });
  await expect(pass).toContainText("finished", { timeout: 60_000 });
  // The largest one of which nothing was written over.
  const [volume] = inspectDisk(disk).volumes;
  const [standing] = copiesOf(disk, volume as VolumeReport)
    .filter((copy) => copy.condition === "not-checked" && hashOf(copy.layout, disk) === truth.former?.[copy.path.slice(1)]?.sha256)
    .sort((one, other) => other.size - one.size);
  const { name, size, path: at } = standing as { name: string; size: number; path: string };
  await page.goto(`/jobs/${id}/items?place=leftover-record&q=${encodeURIComponent(`"${name}"`)}`);
  const row = page.getByRole("grid", { name: "Items" }).getByRole("row").filter({ hasText: name }).first();
  await expect(row).toContainText("not checked");
  await row.click();
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  await expect(inspector).toContainText("Left by a file system of another kind that was here before (exFAT)");
  await chooseRow(row);
  await page.goto(`/jobs/${id}/restore`);
  await page.getByRole("button", { name: /^Restore \d/ }).click();
  await expect(page.getByText(/files? written, read again and the same/).first()).toBeVisible({ timeout: 60_000 });
  const delivered = readdirSync(join(process.env.COMPASS_TEST_WORK ?? "", "e2e-delivery"), { recursive: true, withFileTypes: true });
  const written = delivered.find((entry) => entry.name.normalize("NFC") === name.normalize("NFC"));
  const bytes = readFileSync(join(written?.parentPath ?? "", written?.name ?? ""));
  expect([bytes.length, createHash("sha256").update(bytes).digest("hex")]).toEqual([size, truth.former?.[at.slice(1)]?.sha256]);
});
