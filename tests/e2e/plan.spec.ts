import { execFileSync } from "node:child_process";
import { mkdirSync, symlinkSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { expect, test } from "@playwright/test";
import { fixture } from "../support/volume-truth";

test.describe.configure({ mode: "serial" });

test("the plan finds the application that was closed without saving", async ({ page }) => {
  const began = Date.now();
  await page.goto("/");
  await page.getByRole("link", { name: "Application closed without saving" }).click();
  await page.getByRole("link", { name: "Account" }).click();
  const plan = page.getByRole("list", { name: "Steps of the plan" });
  await expect(plan.getByRole("listitem").first()).toContainText("Autosave and temporary copies");
  await expect(page.getByText(/They closed it without saving on 12 March 2026/)).toBeVisible();
  await page.getByRole("button", { name: "Run in order" }).click();
  const fits = page.getByRole("region", { name: "By what the client remembers" });
  const best = fits.getByRole("listitem").filter({ has: page.getByRole("link", { name: "Funding application.docx", exact: true }) });
  await expect(best.first()).toContainText("its name is “funding application”", { timeout: 40_000, ignoreCase: true });
  await expect(plan.getByRole("listitem").first()).toContainText("autosave", { timeout: 40_000 });
  await best.first().getByRole("link").click();
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  await expect(inspector).toContainText("Autosave copies of office programs");
  await expect(inspector).toContainText("AutoRecovery save of Funding application.asd");
  await expect(inspector.locator("pre")).toContainText("the rail must be ordered before the summer");
  const seconds = (Date.now() - began) / 1000;
  console.log(`the unsaved application was found in ${seconds.toFixed(1)} s`);
  // The recent list, the autosave copy and the unsaved file are copies of one item, in the folder the client knew.
  await expect(inspector.getByRole("list", { name: "Copies" }).getByRole("listitem")).toHaveCount(3);
  await expect(inspector).toContainText("Documents / Funding");
  await inspector.getByRole("button", { name: "This is what was lost" }).click();
  await expect(inspector.getByRole("button", { name: "Not what was looked for" })).toBeVisible();
  await page.getByRole("navigation", { name: "Stages of the job" }).getByRole("link", { name: "Account" }).click();
  await expect(page.getByText(/What is left of the plan is not needed/)).toBeVisible();
  await expect(plan.getByRole("listitem").filter({ hasText: "Cloud folder" })).toContainText("not needed");
  await page.getByRole("navigation", { name: "Stages of the job" }).getByRole("link", { name: "Handover" }).click();
  await expect(page.getByText(/What was looked for is found: Users\/mo\/Documents\/Funding\/Funding application\.docx/)).toBeVisible();
});

test("the plan is the technician's: steps are skipped with a reason, moved, added and done by hand", async ({ page }) => {
  await page.goto("/jobs/3/account");
  const plan = page.getByRole("list", { name: "Steps of the plan" });
  const step = (title: string) => plan.getByRole("listitem").filter({ hasText: title });
  await page.getByRole("button", { name: "Go on looking" }).click();
  await step("Cloud folder").getByRole("button", { name: "Skip" }).click();
  await page.getByRole("textbox", { name: "Why it is skipped" }).fill("The client has none.");
  await page.keyboard.press("Enter");
  await expect(step("Cloud folder")).toContainText("The client has none.");
  await step("Backups").filter({ hasText: "disks and folders" }).getByRole("button", { name: "Done by hand" }).click();
  await page.getByRole("textbox", { name: "What came of it" }).fill("No backup disk.");
  await page.keyboard.press("Enter");
  await expect(plan.getByText("No backup disk.")).toBeVisible();
  await page.getByRole("button", { name: "Move Recent lists up" }).click();
  await expect(plan.getByRole("listitem").first()).toContainText("Recent lists");
  await page.getByRole("button", { name: "Add a step" }).click();
  await page.getByRole("menuitem", { name: "Other users’ profiles" }).click();
  await expect(step("Other users’ profiles")).toContainText("Added by the technician.");
  // The bin is looked into whatever was said of the loss.
  await expect(step("The bin")).toContainText("1 found", { timeout: 30_000 });
  await page.reload();
  await expect(plan.getByRole("listitem").first()).toContainText("Recent lists");
});

test("the account takes any of its blanks, understands rough times, and remembers what was said before", async ({ page }) => {
  await page.goto("/jobs/3/account");
  await page.getByRole("button", { name: /^Also lost|sheets called something like/ }).click();
  await page.getByRole("textbox", { name: "When it was last saved" }).fill("in March 2026");
  await page.getByRole("textbox", { name: "How many" }).fill("1");
  await page.getByRole("button", { name: /^Kind of file/ }).click();
  await page.getByRole("menuitemcheckbox", { name: "documents" }).click();
  await page.keyboard.press("Escape");
  await expect(page.getByText(/It was last saved between 1 March 2026 and 31 March 2026 \(“in March 2026”\)/)).toBeVisible();
  await expect(page.getByRole("status").filter({ hasText: "Saved." })).toBeVisible();
  await page.getByText("What was said before").click();
  await expect(page.getByText(/1 sheets and documents called something like “observing workbook”/).last()).toBeVisible();
  await page.getByRole("button", { name: "Add another loss" }).click();
  await page.getByRole("textbox", { name: "Name or part of it" }).fill("minutes");
  await expect(page.getByText(/The client lost something called something like “minutes”/)).toBeVisible();
  await expect(page.getByRole("status").filter({ hasText: "Saved." })).toBeVisible();
  await page.reload();
  await expect(page.getByText(/something called something like “minutes”/)).toBeVisible();
});

test("rules of known places are read, switched off, and one's own is added", async ({ page }) => {
  await page.goto("/places");
  const rules = page.getByRole("list", { name: "Rules" });
  await expect(rules.getByRole("listitem").filter({ hasText: "Windows bin" })).toBeVisible();
  const drawings = rules.getByRole("checkbox", { name: "Autosave copies of drawings" });
  await drawings.click();
  await page.reload();
  await expect(rules.getByRole("checkbox", { name: "Autosave copies of drawings" })).not.toBeChecked();
  await drawings.click();
  await page.getByRole("button", { name: "Add a rule" }).click();
  const form = page.getByRole("form", { name: "A rule of your own" });
  await form.getByLabel("Name", { exact: true }).fill("Logs kept twice");
  await form.getByLabel(/^Where/).fill("**/Logs/*.txt");
  await form.getByLabel(/regular expression/).fill("(");
  await form.getByRole("button", { name: "Add it" }).click();
  await expect(form.getByText(/The patterns cannot be read/)).toBeVisible();
  await form.getByLabel(/regular expression/).fill("");
  await form.getByRole("button", { name: "Add it" }).click();
  const own = rules.getByRole("listitem").filter({ hasText: "Logs kept twice" });
  await expect(own).toBeVisible();
  await own.getByRole("button", { name: "Remove" }).click();
  await expect(own).toHaveCount(0);
});

test("a folder is taken as a source by itself, and an image asks for its parent", async ({ page }) => {
  const folder = process.env.COMPASS_SOURCES as string;
  mkdirSync(join(folder, "shelf"), { recursive: true });
  writeFileSync(join(folder, "child.vhd"), fixture("diff-child.vhd.gz"));
  writeFileSync(join(folder, "shelf", "parent.vhd"), fixture("diff-parent.vhd.gz"));
  const { id } = (await (await page.request.post("/api/jobs", { data: { title: "Folder and parent", client: "" } })).json()) as {
    id: number;
  };
  await page.goto(`/jobs/${id}/sources`);
  const browser = page.getByRole("dialog", { name: "Add a source" });
  await page.getByRole("button", { name: "Add a source" }).click();
  await browser.getByRole("button", { name: /e2e-sources/ }).click();
  await browser.getByRole("button", { name: "secretary-drive" }).click();
  await browser.getByRole("button", { name: "Take this folder as a source" }).click();
  await expect(page.getByRole("treeitem", { name: /secretary-drive folder/ })).toBeVisible();
  await page.getByRole("button", { name: "Add a source" }).click();
  await browser.getByRole("button", { name: /e2e-sources/ }).click();
  await browser.getByRole("button", { name: "child.vhd" }).click();
  await expect(browser.getByRole("status")).toContainText("Choose the missing file for child.vhd");
  await browser.getByRole("button", { name: "shelf" }).click();
  await browser.getByRole("button", { name: "parent.vhd" }).click();
  await expect(page.getByRole("treeitem", { name: /child\.vhd/ })).toBeVisible({ timeout: 20_000 });
  await expect(page.getByText(/Holds the changes to/)).toBeVisible();
});

test("what of a folder was not read is said beside its pass, with the source and in the report", async ({ page }) => {
  const folder = join(process.env.COMPASS_SOURCES as string, "drawer");
  mkdirSync(folder, { recursive: true });
  writeFileSync(join(folder, "plan.txt"), "plan");
  symlinkSync("/etc", join(folder, "way out"));
  execFileSync("mkfifo", [join(folder, "pipe")]);
  const post = async (path: string, data: unknown) => (await (await page.request.post(path, { data })).json()) as { id: number };
  const { id } = await post("/api/jobs", { title: "Drawer", client: "" });
  await post(`/api/jobs/${id}/sources`, { path: folder });
  const [source] = (await (await page.request.get(`/api/jobs/${id}/sources`)).json()) as { volumes: { id: number }[] }[];
  await post(`/api/jobs/${id}/passes`, { storeId: source?.volumes[0]?.id });
  await page.goto(`/jobs/${id}/search`);
  // The folder is gone through once more when its pass has ended.
  await page.getByRole("link", { name: "2 in it not read" }).click({ timeout: 30_000 });
  await expect(page.getByRole("heading", { name: "What was not read" })).toBeVisible();
  await expect(page.getByText("Links to another place: shown, never followed.")).toBeVisible();
  await expect(page.getByText("way out", { exact: true })).toBeVisible();
  const report = await (await page.request.get(`/api/jobs/${id}/report?form=html`)).text();
  expect(report).toMatch(/Not read in it: .*1 × Links to another place: shown, never followed \(way out\)/);
});
