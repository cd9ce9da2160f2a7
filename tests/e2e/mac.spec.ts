import { createHash } from "node:crypto";
import { readdirSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { expect, type Page, test } from "@playwright/test";
import { chooseRow } from "../support/choose-row";
import { macTruth } from "../support/mac-truth";

const delivery = () => join(process.env.COMPASS_TEST_WORK ?? "", "e2e-delivery");
const truth = macTruth("apfs-home").entries;

test.describe.configure({ mode: "serial" });

async function openMac(page: Page, stage: string): Promise<void> {
  await page.goto("/");
  await page.getByRole("link", { name: "Emptied bin on the editor's Mac" }).click();
  await page.getByRole("navigation", { name: "Stages of the job" }).getByRole("link", { name: stage }).click();
}

test("a Mac's drive is shown with its volume and the states that are kept of it", async ({ page }) => {
  await openMac(page, "Sources");
  await expect(page.getByRole("table", { name: "Volumes" }).getByRole("row", { name: /Fennmoor HD APFS/ })).toBeVisible();
  const tree = page.getByRole("tree", { name: "Sources and volumes" });
  await tree
    .getByRole("treeitem", { name: /Fennmoor HD/ })
    .locator("svg")
    .first()
    .click();
  await expect(tree.getByRole("treeitem", { name: /snapshot, .*2023/ })).toBeVisible();
});

test("what was emptied from the bin is found as the snapshot has it, and restored byte for byte", async ({ page }) => {
  await openMac(page, "Search");
  await page.getByRole("button", { name: "Read records" }).click();
  await expect(page.getByText(/finished in/)).toBeVisible({ timeout: 30_000 });
  await openMac(page, "Items");
  await page.getByRole("searchbox", { name: "Search items" }).fill("thesis chapter 3");
  const row = page.getByRole("row", { name: /Thesis chapter 3\.docx/ });
  await expect(row).toContainText("whole");
  await row.click();
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  await expect(inspector).toContainText("as of transaction");
  await chooseRow(row);
  await openMac(page, "Restore");
  await page.getByRole("button", { name: /^Restore \d/ }).click();
  await expect(page.getByText("read again and the same")).toBeVisible({ timeout: 30_000 });
  const written = readdirSync(delivery(), { recursive: true, withFileTypes: true }).find(({ name }) => name === "Thesis chapter 3.docx");
  const wanted = truth.find(({ path, state }) => path.endsWith("/Thesis chapter 3.docx") && state === "deleted");
  const bytes = readFileSync(join(written?.parentPath ?? "", written?.name ?? ""));
  expect(createHash("sha256").update(bytes).digest("hex")).toBe(wanted?.sha256);
});

test("autosave copies of a Mac's user are found by the known places, and what is deleted in them too", async ({ page }) => {
  await openMac(page, "Search");
  await page.getByRole("button", { name: "Look there" }).first().click();
  await expect(page.getByText(/finished in/).nth(1)).toBeVisible({ timeout: 30_000 });
  await openMac(page, "Items");
  await page.getByRole("searchbox", { name: "Search items" }).fill("Wordwright Document 2");
  await expect(page.getByRole("row", { name: /Unsaved Wordwright Document 2\.rtf/ })).toContainText("whole");
});
