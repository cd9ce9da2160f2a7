import { mkdirSync, readdirSync, readFileSync, utimesSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import { expect, type Page, test } from "@playwright/test";

const delivery = () => join(process.env.COMPASS_TEST_WORK ?? "", "e2e-delivery");
const packed = JSON.parse(
  gunzipSync(readFileSync(join(import.meta.dirname, "../../demo/images/clubhouse-backup-disk.json.gz"))).toString(),
) as Record<string, { content?: string }>;

test.describe.configure({ mode: "serial" });

async function openJob(page: Page, stage: string): Promise<void> {
  await page.goto("/");
  await page.getByRole("link", { name: "Workbook overwritten by a wrong edit" }).click();
  await page.getByRole("navigation", { name: "Stages of the job" }).getByRole("link", { name: stage }).click();
}

test("nothing is said of sources and counts before they are read", async ({ page }) => {
  await openJob(page, "Items");
  await page.waitForURL(/\/items/);
  let read: () => void = () => undefined;
  const held = new Promise<void>((done) => {
    read = done;
  });
  await page.route(/\/api\/jobs\/\d+\/(sources|facets)(\?|$)/, async (route) => {
    await held;
    await route.continue();
  });
  await page.goto(`${new URL(page.url()).pathname}?kind=sheets&show=all`);
  const kind = page.getByRole("region", { name: "Kind" }).getByRole("button", { name: "Sheets" });
  await expect(kind).toHaveText("Sheets");
  await expect(page.getByText("No source yet")).toHaveCount(0);
  read();
  await expect(kind).toHaveText(/^Sheets\d+$/);
  await expect(page.getByText("No source yet")).toHaveCount(0);
});

test("a pass over earlier states is narrowed to days, and no other pass seems to be", async ({ page }) => {
  await openJob(page, "Search");
  await page.getByText("Everything on the volume; narrow it").click();
  await page.getByLabel("States from").fill("2026-03-01");
  await page.getByLabel("States up to").fill("2026-02-01");
  await expect(page.getByText("The last day of the states must not come before the first.")).toBeVisible();
  await page.getByLabel("States up to").fill("2026-03-10");
  await expect(page.getByText("Only states from 1 Mar 2026 up to 10 Mar 2026")).toBeVisible();
  const rows = page.getByRole("listitem");
  const states = rows.filter({ hasText: "Earlier states of clubhouse-backup-disk" });
  await expect(states.getByRole("button", { name: "Read states" })).toBeEnabled();
  const records = rows.filter({ hasText: /(File records|Known places) of clubhouse-backup-disk/ }).first();
  await expect(records.getByRole("button")).toBeDisabled();
  await expect(records).toContainText("It cannot be narrowed to states between two days.");
});

test("the plan reads the earlier states on a backup disk, and the list steps back in time", async ({ page }) => {
  await openJob(page, "Search");
  const open = page.getByRole("listitem").filter({ hasText: "Earlier states of clubhouse-backup-disk" });
  await open.getByLabel("Newest state first").check();
  await open.getByRole("button", { name: "Read states" }).click();
  await expect(page.getByText(/finished in/)).toBeVisible({ timeout: 30_000 });
  await expect(page.getByText("the newest state first").first()).toBeVisible();
  await openJob(page, "Items");
  const asOf = page.getByRole("combobox", { name: "The list as of" });
  await expect(asOf).toHaveValue("");
  // The list of loans was deleted at the end of February: it is lost, and shows in the states before.
  await expect(page.getByRole("row", { name: /Loans\.csv/ })).toBeVisible();
  await page.getByRole("grid", { name: "Items" }).focus();
  await page.keyboard.press("[");
  await expect(asOf).not.toHaveValue("");
  await expect(page.getByRole("row", { name: /Rota\.txt/ })).toContainText("in the last state too");
  await expect(page.getByRole("row", { name: /Loans\.csv/ })).toHaveCount(0);
  const newest = await asOf.inputValue();
  await page.keyboard.press("[");
  await expect(asOf).not.toHaveValue(newest);
  await page.keyboard.press("]");
  await expect(asOf).toHaveValue(newest);
});

test("the sets of the disk are listed with what they are of, and lead to the list as of their last state", async ({ page }) => {
  await openJob(page, "Sources");
  const sets = page.getByRole("table", { name: "Backup sets and snapshots" });
  const copies = sets.getByRole("row", { name: /dated copies of files/ });
  await expect(copies).toContainText("LARKFIELD-LT, mo");
  await expect(copies).toContainText("C:/Users/mo/Documents");
  await expect(sets.getByRole("row", { name: /dated folder trees/ })).toContainText("Desk computer");
  await copies.getByRole("link", { name: /^List as of the last state/ }).click();
  await expect(page.getByRole("combobox", { name: "The list as of" })).not.toHaveValue("");
  // The list is that set's: of the other one, of another computer, it has nothing.
  const chosen = page.getByRole("region", { name: "Backup sets" }).getByRole("button", { name: /LARKFIELD-LT, mo: dated copies of files/ });
  await expect(chosen).toHaveAttribute("aria-pressed", "true");
  await expect(page.getByRole("row", { name: /Observing workbook\.xlsx/ })).toBeVisible();
  await expect(page.getByRole("row", { name: /Rota\.txt/ })).toHaveCount(0);
  await chosen.click();
  await expect(page.getByRole("row", { name: /Rota\.txt/ })).toBeVisible();
});

test("several sets are searched at once, chosen by mouse and by keyboard, and their moments alone are stepped through", async ({
  page,
}) => {
  await openJob(page, "Items");
  await page.getByRole("button", { name: "All files" }).click();
  const sets = page.getByRole("region", { name: "Backup sets" });
  const copies = sets.getByRole("button", { name: /LARKFIELD-LT, mo: dated copies of files/ });
  const trees = sets.getByRole("button", { name: /Desk computer.*: dated folder trees/ });
  const workbook = page.getByRole("row", { name: /Observing workbook\.xlsx/ }).first();
  const rota = page.getByRole("row", { name: /Rota\.txt/ }).first();
  await copies.click();
  await expect(workbook).toBeVisible();
  await expect(rota).toHaveCount(0);
  const moments = page.getByRole("combobox", { name: "The list as of" }).locator("option");
  const ofCopies = new Set(await moments.allInnerTexts());
  await trees.focus();
  await page.keyboard.press("Space");
  await expect(trees).toHaveAttribute("aria-pressed", "true");
  await expect(copies).toHaveAttribute("aria-pressed", "true");
  await expect(workbook).toBeVisible();
  await expect(rota).toBeVisible();
  await expect.poll(() => moments.count()).toBeGreaterThan(ofCopies.size);
  // The address has them: a reload brings both back.
  await page.reload();
  await expect(copies).toHaveAttribute("aria-pressed", "true");
  await expect(trees).toHaveAttribute("aria-pressed", "true");
  await copies.click();
  await expect(copies).toHaveAttribute("aria-pressed", "false");
  await expect(rota).toBeVisible();
  await expect(workbook).toHaveCount(0);
  await expect
    .poll(async () => (await moments.allInnerTexts()).filter((each) => ofCopies.has(each)))
    .toEqual(["As it is now", "Newest versions", "All versions"]);
});

test("the list as of a moment is narrowed by what became of its files", async ({ page }) => {
  await openJob(page, "Items");
  await page.getByRole("button", { name: "Before the loss" }).click();
  const became = page.getByRole("region", { name: "Since then" });
  await became.getByRole("button", { name: /^changed since/ }).click();
  await expect(page.getByRole("row", { name: /Observing workbook\.xlsx/ })).toContainText("changed since");
  const rows = page
    .getByRole("grid", { name: "Items" })
    .getByRole("row")
    .filter({ has: page.getByRole("checkbox") });
  // The row stands in the list before it is narrowed too: for a moment there may be none.
  await expect(async () => {
    const shown = await rows.allInnerTexts();
    expect(shown.length).toBeGreaterThan(0);
    for (const text of shown) expect(text).toContain("changed since");
  }).toPass({ timeout: 40_000 });
  await became.getByRole("button", { name: /^in the last state too/ }).click();
  await expect(page.getByRole("row", { name: /Observing workbook\.xlsx/ })).toHaveCount(0);
});

test("the versions of all times are listed with their dates, looked at and chosen one by one", async ({ page }) => {
  // What the backup's folder has, by the names of its files: each has its state's time in UTC.
  const kept = Object.keys(packed).flatMap((path) => /Observing workbook \((\d{4})_(\d\d)_(\d\d) /.exec(path)?.slice(1).join("-") ?? []);
  expect(kept.length).toBeGreaterThan(3);
  const days = kept.sort().reverse();
  const words = (day: string | undefined) =>
    new Date(day ?? "").toLocaleDateString("en-GB", { day: "numeric", month: "short", year: "numeric", timeZone: "UTC" });

  await openJob(page, "Items");
  await page.getByRole("searchbox", { name: "Search items" }).fill("observing workbook");
  const which = page.getByRole("combobox", { name: "The list as of" });
  await which.selectOption({ label: "All versions" });
  const rows = page.getByRole("row", { name: /Observing workbook\.xlsx/ });
  await expect(rows).toHaveCount(kept.length);
  for (const [index, day] of days.entries()) await expect(rows.nth(index)).toContainText(words(day));
  await expect(page.getByRole("status").filter({ hasText: "versions" })).toContainText(`${kept.length} of`);

  // Each row opens its own version, by keyboard too, and in the large preview.
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  await rows.nth(1).click();
  await expect(inspector).toContainText(`from ${words(days[1])}`);
  // Beside it stand all its versions, the newest on top, with the state and the set of each.
  const versions = inspector.getByRole("list", { name: "Copies" }).getByRole("listitem");
  await expect(versions).toHaveCount(kept.length);
  for (const [index, day] of days.entries())
    await expect(versions.nth(index)).toContainText(`LARKFIELD-LT, mo: dated copies of files, since ${words(day)}`);
  await page.getByRole("grid", { name: "Items" }).focus();
  await page.keyboard.press("ArrowDown");
  await expect(rows.nth(2)).toHaveAttribute("aria-selected", "true");
  await expect(inspector).toContainText(`from ${words(days[2])}`);
  const size = await rows.nth(2).locator("[title$=bytes]").getAttribute("title");
  await page.keyboard.press(" ");
  await expect(page.getByRole("dialog", { name: /Preview of Observing workbook/ })).toContainText(size ?? "no size");
  await page.keyboard.press("Escape");

  // Two versions of the one file stand in the tray together, a range is chosen by keyboard, and a reload keeps the row that is open.
  const change = (act: () => Promise<unknown>) =>
    Promise.all([page.waitForResponse((response) => response.request().method() === "POST" && response.url().includes("/tray")), act()]);
  await change(() => rows.nth(0).getByRole("checkbox").check());
  await change(() => rows.nth(2).getByRole("checkbox").check());
  await expect(rows.nth(1).getByRole("checkbox")).not.toBeChecked();
  await page.reload();
  await expect(which).toHaveValue("each");
  await expect(rows.nth(2)).toHaveAttribute("aria-selected", "true");
  for (const [index, isChosen] of [true, false, true, false].entries())
    await expect(rows.nth(index).getByRole("checkbox")).toBeChecked({ checked: isChosen });
  await rows.nth(1).click();
  await page.getByRole("grid", { name: "Items" }).focus();
  await change(() => page.keyboard.press("Shift+ArrowDown"));
  await expect(rows.nth(1).getByRole("checkbox")).toBeChecked();

  // Of each file the newest alone; and as pictures or narrowed, the list stays one of versions.
  await which.selectOption({ label: "Newest versions" });
  await expect(rows).toHaveCount(1);
  await expect(rows.first()).toContainText(words(days[0]));
  await page.keyboard.press("[");
  await expect(which).not.toHaveValue(/newest|each/);
  await which.selectOption({ label: "As it is now" });
  await expect(page).not.toHaveURL(/rows=/);
  await change(() => page.getByRole("button", { name: "Empty tray" }).click());
});

test("of all that is chosen the newest version before the loss is taken, and what has none is said", async ({ page }) => {
  await openJob(page, "Items");
  await page.getByRole("button", { name: "All files" }).click();
  await page.getByRole("searchbox", { name: "Search items" }).fill("observing workbook");
  const row = page.getByRole("row", { name: /Observing workbook\.xlsx/ }).first();
  const ticked = page.waitForResponse((response) => response.request().method() !== "GET" && response.url().includes("/tray"));
  await row.getByRole("checkbox").check();
  await ticked;
  await openJob(page, "Restore");
  const versions = page.getByRole("group", { name: "Version of each file" });
  await versions.getByRole("button", { name: /^the newest before 1\d Mar 2026/ }).click();
  await expect(page.getByText("Of 1 file another copy is chosen now.")).toBeVisible();
  await versions.getByRole("button", { name: "the best", exact: true }).click();
  await expect(page.getByText("Of 1 file another copy is chosen now.")).toBeVisible();
  await openJob(page, "Items");
  const emptied = page.waitForResponse((response) => response.request().method() !== "GET" && response.url().includes("/tray"));
  await page.getByRole("button", { name: "Empty tray" }).click();
  await emptied;
});

test("the overwritten workbook is brought back from before the wrong edit", async ({ page }) => {
  await openJob(page, "Items");
  await page.getByRole("button", { name: "Before the loss" }).click();
  const row = page.getByRole("row", { name: /Observing workbook\.xlsx/ });
  await expect(row).toContainText("changed since");
  await row.click();
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  await expect(inspector).toContainText("Kept in a backup set of the computer “LARKFIELD-LT”, user “mo”.");
  await expect(inspector).toContainText(/from 9 Mar 2026, 22:30/);
  const chosen = page.waitForResponse((response) => response.request().method() !== "GET" && response.url().includes("/tray"));
  await row.getByRole("checkbox").check();
  await chosen;
  await expect(row.getByRole("checkbox")).toBeChecked();
  await openJob(page, "Restore");
  await page.getByRole("button", { name: /^Restore \d/ }).click();
  await expect(page.getByText("read again and the same")).toBeVisible({ timeout: 30_000 });
  const written = readdirSync(delivery(), { recursive: true, withFileTypes: true }).find(({ name }) => name === "Observing workbook.xlsx");
  const wanted = packed["mo/LARKFIELD-LT/Data/C/Users/mo/Documents/Observing workbook (2026_03_09 22_30_00 UTC).xlsx"];
  expect(readFileSync(join(written?.parentPath ?? "", written?.name ?? "")).toString("base64")).toBe(wanted?.content);
});

test("of a file of very many versions the oldest is looked at and compared as the newest is", async ({ page }) => {
  const root = join(process.env.COMPASS_SOURCES as string, "years of a diary");
  const folder = join(root, "mo", "LARKFIELD-LT", "Data", "C", "Users", "mo", "Documents");
  mkdirSync(folder, { recursive: true });
  const versions = 620;
  const day = (index: number) => new Date(Date.UTC(2024, 0, 1 + index, 19)).toISOString();
  for (let index = 0; index < versions; index += 1) {
    const stamp = `${day(index).slice(0, 10).replaceAll("-", "_")} 19_00_00 UTC`;
    const path = join(folder, `Diary (${stamp}).txt`);
    writeFileSync(path, `Diary of the telescope, entry number ${index + 1}. ${"-".repeat(index)}`);
    // Written an hour before it was kept.
    const written = new Date(day(index)).getTime() / 1000 - 3600;
    utimesSync(path, written, written);
  }
  const post = async (to: string, data: unknown) => (await (await page.request.post(to, { data })).json()) as { id: number };
  const { id } = await post("/api/jobs", { title: "Years of a diary", client: "" });
  await post(`/api/jobs/${id}/sources`, { path: root });
  await page.goto(`/jobs/${id}/search`);
  await page.getByRole("button", { name: "Read states" }).click();
  await expect(page.getByText(/finished in/).first()).toBeVisible({ timeout: 60_000 });

  await page.goto(`/jobs/${id}/items?show=all&rows=each&sort=changed&order=up`);
  const rows = page.getByRole("row", { name: /Diary\.txt/ });
  await expect(page.getByRole("status").filter({ hasText: "versions" })).toContainText(`${versions}`);
  await rows.first().click();
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  await expect(inspector).toContainText("entry number 1.");
  await expect(inspector.getByRole("list", { name: "Copies" }).getByRole("listitem")).toHaveCount(500);
  await expect(inspector).toContainText(`500 of ${versions} copies stand here`);
  await page.getByRole("grid", { name: "Items" }).focus();
  await page.keyboard.press("ArrowDown");
  await expect(inspector).toContainText("entry number 2.");
  await page.keyboard.press(" ");
  const large = page.getByRole("dialog", { name: "Preview of Diary.txt" });
  await expect(large).toContainText("entry number 2.");
  await page.keyboard.press("ArrowDown");
  await expect(large).toContainText("entry number 3.");
  await page.keyboard.press("Escape");
  // What the address names is there after a reload, and beside the newest one.
  await page.reload();
  await expect(inspector).toContainText("entry number 3.");
  await inspector.getByRole("list", { name: "Copies" }).getByRole("button", { name: "Compare" }).first().click();
  const compared = page.getByRole("dialog");
  await expect(compared).toContainText("entry number 3.");
  await expect(compared).toContainText(`entry number ${versions}.`);
  // The same two, the old one being that which the open one is compared with.
  const at = new URL(page.url()).searchParams;
  const item = at.get("item") ?? "";
  await page.goto(`/jobs/${id}/items?${new URLSearchParams({ show: "all", item, compare: at.get("copy") ?? "" })}`);
  await expect(compared).toContainText("entry number 3.");
  await expect(compared).toContainText(`entry number ${versions}.`);
  // A version that is no more is not taken for another one.
  await page.goto(`/jobs/${id}/items?${new URLSearchParams({ show: "all", item, copy: "987654321" })}`);
  await expect(inspector).toContainText("This version is not among the copies of the file any more.");
  await expect(inspector).not.toContainText("entry number");
});
