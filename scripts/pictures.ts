import { join } from "node:path";
import { type Browser, chromium, type Page } from "@playwright/test";
import { readSettings } from "../server/settings";
import { CHROMIUM } from "./packages";

/**
 * Takes the pictures of the README from a running demo whose data are fresh: `npm run demo -- --fresh`, then
 * `npx tsx scripts/pictures.ts`. It works through the demo job as a technician would.
 */
const { COMPASS_HOST, COMPASS_PORT } = readSettings();
const base = `http://${COMPASS_HOST}:${COMPASS_PORT}`;
const folder = join(import.meta.dirname, "../docs/screenshots");

async function main(): Promise<void> {
  const browser = await chromium.launch({ executablePath: CHROMIUM, chromiumSandbox: false, args: ["--disable-gpu", "--disable-quic"] });
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 }, colorScheme: "light", baseURL: base });
  const shot = async (name: string) => {
    await page.waitForTimeout(700);
    await page.screenshot({ path: join(folder, `${name}.png`) });
  };
  await readRecords(page);
  await page.goto("/jobs/1/items?q=funding");
  await page.getByRole("row", { name: /Funding application\.docx/ }).click();
  await page
    .getByRole("row", { name: /Funding application\.docx/ })
    .getByRole("checkbox")
    .check();
  await page.getByText("Application for a 400 mm reflector").waitFor();
  await page.getByRole("searchbox", { name: "Search items" }).fill("");
  await shot("items");
  await page.goto("/jobs/1/items?view=pictures&kind=pictures");
  await page.waitForFunction(() => document.images.length >= 7 && [...document.images].every((image) => image.naturalWidth > 0));
  await shot("pictures");
  await page.goto("/jobs/1/items?q=workbook");
  await page.getByRole("row", { name: /Observing workbook/ }).click();
  await page.getByRole("button", { name: "Compare", exact: true }).click();
  await page.getByText("cells differ").waitFor();
  await shot("compare");
  await page.goto("/jobs/1/restore");
  await page.getByRole("button", { name: /^Restore \d/ }).click();
  await page.getByText("read again and the same").waitFor();
  await shot("restore");
  for (const stage of ["sources", "search", "handover"]) {
    await page.goto(`/jobs/1/${stage}`);
    if (stage === "handover") await page.getByRole("heading", { name: "What was lost" }).waitFor();
    await shot(stage);
  }
  await shared(browser, page);
  await unsaved(page, shot);
  await page.goto("/places");
  await page.getByText("Patterns and names").nth(3).click();
  await shot("places");
  await mac(page, shot);
  await states(page, shot);
  await records(page, shot);
  await raw(page, shot);
  await backup(page);
  await shot("backup");
  await page.goto("/");
  await shot("bench");
  await page.emulateMedia({ colorScheme: "dark" });
  await page.goto("/jobs/1/items?kind=pictures");
  await page.getByRole("row", { name: /Panorama of the valley/ }).click();
  await page.getByRole("img", { name: /Preview of/ }).waitFor();
  await shot("night");
  await browser.close();
}

/** What the client sees by a link to the first job. */
async function shared(browser: Browser, page: Page): Promise<void> {
  const links = page.getByRole("region", { name: "Links for the client" });
  await links.getByRole("button", { name: "Show" }).click();
  await links.getByLabel("For whom").fill("Larkfield Observatory Society");
  await links.getByRole("button", { name: "Make a link" }).click();
  await links.locator("code").nth(1).waitFor();
  const [address = "", password = ""] = await links.locator("code").allTextContents();
  const client = await browser.newPage({ viewport: { width: 1280, height: 800 }, colorScheme: "light" });
  await client.goto(address);
  await client.getByLabel("Password").fill(password);
  await client.getByRole("button", { name: "Open" }).click();
  for (const name of ["Funding application.docx", "Log 2025-09-07.txt"])
    await client.getByRole("checkbox", { name: `Choose ${name}` }).check();
  await client.getByRole("button", { name: /^Log 2025-09-07/ }).click();
  await client.getByText("Observer:").waitFor();
  await client.waitForTimeout(700);
  await client.screenshot({ path: join(folder, "shared.png") });
  await client.close();
}

/** The application that was closed without saving: the plan runs. */
async function unsaved(page: Page, shot: (name: string) => Promise<void>): Promise<void> {
  await page.goto("/jobs/3/account");
  await page.getByRole("button", { name: "Run in order" }).click();
  const best = page.getByRole("region", { name: "By what the client remembers" }).getByRole("link", { name: "Funding application.docx" });
  await best.first().waitFor({ timeout: 40_000 });
  await page.getByRole("list", { name: "Steps of the plan" }).getByText("4 autosave").waitFor({ timeout: 40_000 });
  // The notice that a pass is finished goes by itself.
  await page.waitForTimeout(9_000);
  await shot("account");
}

/** The editor's Mac, with the snapshot that is kept of its volume. */
async function mac(page: Page, shot: (name: string) => Promise<void>): Promise<void> {
  await page.goto("/jobs/4/sources");
  const tree = page.getByRole("tree", { name: "Sources and volumes" });
  await tree
    .getByRole("treeitem", { name: /Fennmoor HD/ })
    .locator("svg")
    .first()
    .click();
  await tree.getByRole("treeitem", { name: /snapshot/ }).waitFor();
  await shot("mac");
}

/** The clubhouse's backup disk: the list as it was before the workbook was overwritten. */
async function states(page: Page, shot: (name: string) => Promise<void>): Promise<void> {
  await page.goto("/jobs/5/search");
  const open = page.getByRole("listitem").filter({ hasText: "Earlier states of clubhouse-backup-disk" });
  await open.getByRole("button", { name: "Read states" }).click();
  await open.getByText(/finished in/).waitFor();
  await page.goto("/jobs/5/items");
  await page.getByRole("button", { name: "Before the loss" }).click();
  await page.getByRole("row", { name: /Observing workbook/ }).click();
  await page.getByRole("complementary", { name: "Inspector" }).getByText("R Leonis").first().waitFor();
  // The notice that a pass is finished goes by itself.
  await page.waitForTimeout(9_000);
  await shot("states");
}

/** The members' chat: what was cleared on the old laptop, and all databases of its kind. */
async function records(page: Page, shot: (name: string) => Promise<void>): Promise<void> {
  await page.goto("/jobs/6/search");
  await page
    .getByRole("button", { name: /^Read (the )?records/ })
    .first()
    .click();
  await page
    .getByText(/finished in/)
    .first()
    .waitFor();
  await page.goto("/jobs/6/items?show=all&q=messages.db");
  await page
    .getByRole("row", { name: /messages\.db/ })
    .first()
    .click();
  await page.getByRole("link", { name: "Read its records" }).click();
  await page.getByRole("button", { name: "Databases of this kind" }).click();
  const candidates = page.getByRole("table", { name: "Candidates" });
  await candidates.waitFor();
  await page.waitForTimeout(9_000);
  await shot("candidates");
  const old = await candidates.getByRole("row").filter({ hasText: "Old laptop" }).getByRole("link").getAttribute("href");
  await page.goto(`${old}&since=2025-11-20`);
  await page
    .getByText(/^deleted, (not )?all of it stands/)
    .first()
    .waitFor();
  await page.waitForTimeout(1_500);
  await shot("records");
}

/** The card is swept for its pictures. */
async function raw(page: Page, shot: (name: string) => Promise<void>): Promise<void> {
  await page.goto("/jobs/2/search");
  const form = page.getByRole("region", { name: "Raw content" });
  const pass = page.getByRole("listitem").filter({ hasText: "Raw content of LANTERN" });
  const start = form.getByRole("button", { name: "Start the sweep" });
  await start.waitFor();
  if (!(await pass.isVisible())) await start.click();
  await pass.getByText(/finished in/).waitFor();
  await page.waitForTimeout(9_000);
  await form.getByRole("button", { name: "Start the sweep" }).scrollIntoViewIfNeeded();
  await shot("raw");
  await page.goto("/jobs/2/items?place=raw");
  // The one whose writing broke off.
  await page.getByRole("row", { name: /trails 319/ }).click();
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  await inspector.getByRole("button", { name: "Try to repair it" }).click();
  await inspector.getByRole("img", { name: "Repaired" }).waitFor();
  await inspector.getByRole("region", { name: "Repair" }).scrollIntoViewIfNeeded();
  await shot("repair");
}

/** The old backup that does not open: read lightly, then thoroughly, and the star catalogue that came out of it. */
async function backup(page: Page): Promise<void> {
  await page.goto("/jobs/7/search");
  for (const [button, name] of [
    ["Read lightly", "Light reading"],
    ["Read thoroughly", "Thorough reading"],
  ] as const) {
    const start = page.getByRole("button", { name: button });
    const row = page
      .getByRole("listitem")
      .filter({ hasText: `${name} of Clubhouse 2011` })
      .filter({ hasText: "finished in" });
    await start.or(row).first().waitFor();
    if (await start.isVisible()) await start.click();
    await row.waitFor();
  }
  await page.goto("/jobs/7/items");
  await page.getByRole("row", { name: /Star catalogue/ }).click();
  await page.getByText("LOS 0001").waitFor();
}

async function readRecords(page: Page): Promise<void> {
  await page.goto("/jobs/1/search");
  const start = page.getByRole("button", { name: "Read records" });
  await start
    .or(page.getByText(/finished in/))
    .first()
    .waitFor();
  if (await start.isVisible()) await start.click();
  await page.getByText(/finished in/).waitFor();
}

await main();
