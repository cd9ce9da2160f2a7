import { existsSync, mkdirSync, readFileSync, renameSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { expect, type Page, test } from "@playwright/test";
import { fixture } from "../support/volume-truth";

/** A job with the camera's stick, whose records are read. */
async function readStick(page: Page, title: string, image = "ntfs-4kn"): Promise<{ id: number; path: string }> {
  const path = join(process.env.COMPASS_SOURCES as string, `${title}.img`);
  writeFileSync(path, fixture(`${image}.img.gz`));
  const { id } = (await (await page.request.post("/api/jobs", { data: { title, client: "Larkfield" } })).json()) as { id: number };
  await page.request.post(`/api/jobs/${id}/sources`, { data: { path } });
  const [source] = (await (await page.request.get(`/api/jobs/${id}/sources`)).json()) as { volumes: { id: number }[] }[];
  await page.request.post(`/api/jobs/${id}/passes`, { data: { storeId: source?.volumes[0]?.id } });
  await expect(async () => {
    const passes = (await (await page.request.get(`/api/jobs/${id}/passes`)).json()) as { state: string }[];
    expect(passes.every(({ state }) => state === "done")).toBe(true);
  }).toPass({ timeout: 30_000 });
  return { id, path };
}

const tray = async (page: Page, id: number) => ((await (await page.request.get(`/api/jobs/${id}/tray`)).json()) as { count: number }).count;

test("items are chosen as in a good file manager: click, Ctrl, Shift, arrows, and as a menu", async ({ page }) => {
  const { id } = await readStick(page, "Chosen by hand");
  await page.goto(`/jobs/${id}/items?show=all`);
  const grid = page.getByRole("grid", { name: "Items" });
  const rows = grid.getByRole("row");
  await expect(rows.nth(8)).toBeVisible();
  // A plain click opens; with Ctrl it ticks.
  await expect(async () => {
    await rows.nth(1).click();
    await expect(page).toHaveURL(/item=\d+/, { timeout: 1000 });
  }).toPass();
  expect(await tray(page, id)).toBe(0);
  await rows.nth(3).click({ modifiers: ["Control"] });
  await expect(rows.nth(3).getByRole("checkbox")).toBeChecked();
  await rows.nth(6).click({ modifiers: ["Shift"] });
  await expect.poll(() => tray(page, id)).toBe(4);
  await expect(rows.nth(4).getByRole("checkbox")).toBeChecked();
  // A range does what was done to its first: here it is taken out again.
  await rows.nth(4).click({ modifiers: ["Control"] });
  await expect(rows.nth(4).getByRole("checkbox")).not.toBeChecked();
  await rows.nth(6).click({ modifiers: ["Shift"] });
  await expect.poll(() => tray(page, id)).toBe(1);
  // By keys: from the search into the list, down, and with Shift.
  await page.getByRole("searchbox", { name: "Search items" }).focus();
  await page.keyboard.press("ArrowDown");
  await expect(grid).toBeFocused();
  await rows.nth(1).click();
  await page.keyboard.press("Shift+ArrowDown");
  await page.keyboard.press("Shift+ArrowDown");
  await expect.poll(() => tray(page, id)).toBe(3);
  await page.keyboard.press("Control+a");
  const all = ((await (await page.request.get(`/api/jobs/${id}/items/spine?show=all`)).json()) as { count: number }).count;
  await expect.poll(() => tray(page, id)).toBe(all);
  await rows.nth(2).click({ button: "right" });
  await page.getByRole("menuitem", { name: /Take it out of the tray/ }).click();
  await expect.poll(() => tray(page, id)).toBe(all - 1);
});

test("pictures are chosen by a frame drawn over them", async ({ page }) => {
  const { id } = await readStick(page, "Framed pictures", "ntfs-mbr");
  await page.goto(`/jobs/${id}/items?show=all&view=pictures&kind=pictures`);
  const tiles = page.getByRole("list", { name: "Pictures" }).getByRole("listitem");
  await expect(tiles.nth(5)).toBeVisible();
  const [first, second] = [await tiles.nth(0).boundingBox(), await tiles.nth(1).boundingBox()];
  if (!first || !second) throw new Error("the tiles have no place");
  await page.mouse.move(first.x - 4, first.y + 20);
  await page.mouse.down();
  await page.mouse.move(second.x + 30, second.y + 60, { steps: 5 });
  await page.mouse.up();
  await expect.poll(() => tray(page, id)).toBe(2);
  await page.keyboard.down("Shift");
  await page.mouse.move(first.x - 4, first.y + 20);
  await page.mouse.down();
  await page.mouse.move(first.x + 40, first.y + 60, { steps: 5 });
  await page.mouse.up();
  await page.keyboard.up("Shift");
  await expect.poll(() => tray(page, id)).toBe(1);
});

test("going away and back keeps the list; narrowing it closes what is not in it any more", async ({ page }) => {
  const { id } = await readStick(page, "There and back");
  await page.goto(`/jobs/${id}/items?show=all&q=*.txt`);
  const rows = page.getByRole("grid", { name: "Items" }).getByRole("row");
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  // A row whose page of items is still on its way is blank, and cannot be opened yet.
  await expect(rows.nth(2)).toContainText(".txt");
  await rows.nth(2).click();
  await expect(inspector.getByRole("heading").first()).toHaveText(/\.txt$/i);
  await page.getByRole("link", { name: "Sources" }).click();
  await expect(page).toHaveURL(/sources/);
  await page.getByRole("link", { name: "Items" }).click();
  await expect(page.getByRole("searchbox", { name: "Search items" })).toHaveValue("*.txt");
  await expect(inspector.getByRole("heading").first()).toHaveText(/\.txt$/i);
  await page.getByRole("searchbox", { name: "Search items" }).fill("*.jpg");
  await expect(inspector).toContainText("Choose an item.");
  await expect(page).not.toHaveURL(/item=/);
});

test("a source that was moved says so in its own panel, and is found where it is now", async ({ page }) => {
  const { id, path } = await readStick(page, "A stick that moves", "fat12");
  const moved = join(process.env.COMPASS_SOURCES as string, "moved stick.img");
  renameSync(path, moved);
  await page.goto(`/jobs/${id}/sources`);
  await expect(page.getByRole("alert").filter({ hasText: "It is not there now." })).toBeVisible();
  await page.getByRole("alert").getByRole("button", { name: "It is elsewhere now" }).click();
  const dialog = page.getByRole("dialog");
  await dialog.getByRole("textbox", { name: "Path of a folder or image" }).fill(moved);
  await dialog.getByRole("button", { name: "Take it" }).click();
  await expect(dialog).toHaveCount(0);
  await expect(page.getByText(moved)).toBeVisible();
  await expect(page.getByText("It is not there now.")).toHaveCount(0);
  await page.getByRole("button", { name: "Rename" }).click();
  await page.getByRole("textbox", { name: "Name of the source" }).fill("The newsletter’s stick");
  await page.keyboard.press("Enter");
  await expect(page.getByRole("heading", { name: /The newsletter’s stick/ })).toBeVisible();
  await page.getByRole("button", { name: "Remove from the job" }).click();
  await page.getByRole("button", { name: "Remove it with all that was found in it" }).click();
  await expect(page.getByText("No source yet.")).toBeVisible();
});

test("what is there is replaced only after it was asked, and kept aside; a result says what became of it", async ({ page }) => {
  const { id } = await readStick(page, "Replaced with care");
  const { items } = (await (await page.request.get(`/api/jobs/${id}/items?condition=whole&limit=50`)).json()) as {
    items: { id: number; size: number; name: string }[];
  };
  const chosen = items.find((item) => item.size > 100);
  const choose = () => page.request.post(`/api/jobs/${id}/tray`, { data: { items: [chosen?.id], chosen: true } });
  await choose();
  await page.goto(`/jobs/${id}/restore`);
  await page.getByRole("button", { name: "Restore 1 file" }).click();
  const first = page.getByRole("region", { name: /^Restore \d+$/ }).first();
  await expect(first).toContainText("1 of 1 file written, read again and the same", { timeout: 30_000 });
  const { results } = (await (
    await page.request.get(
      `/api/restores/${((await (await page.request.get(`/api/jobs/${id}/restores`)).json()) as { id: number }[])[0]?.id}/files`,
    )
  ).json()) as { results: { output: string }[] };
  const output = results[0]?.output as string;
  await choose();
  await page.reload();
  await expect(page.getByRole("region", { name: "Rehearsal" })).toContainText("the same content");
  writeFileSync(output, "what somebody wrote there since");
  await page.reload();
  await expect(page.getByRole("region", { name: "Rehearsal" })).toContainText("other content");
  await page.getByRole("combobox", { name: "If a file is already there" }).click();
  await page.getByRole("option", { name: "replace it, keep it aside" }).click();
  await page.getByRole("button", { name: "Restore 1 file" }).click();
  const asked = page.getByRole("dialog", { name: /Replace 1 file that is there/ });
  await expect(asked).toContainText("other content");
  expect(readFileSync(output, "utf8")).toBe("what somebody wrote there since");
  await asked.getByRole("button", { name: "Replace and keep the old ones aside" }).click();
  await expect(page.getByText("What was there before is kept as")).toBeVisible({ timeout: 90_000 });
  expect(existsSync(output)).toBe(true);
  await expect(page.getByText("verified; replaced by a later restore since")).toBeVisible();
  rmSync(output);
  await page.reload();
  await expect(page.getByText("verified; not there any more")).toBeVisible();
  await page.goto(`/jobs/${id}/handover`);
  await page.getByRole("textbox", { name: "Technician" }).fill("Ines Marrow");
  await page.getByRole("textbox", { name: "Job number" }).fill("7/26");
  await page.getByRole("button", { name: "Put it on the page" }).click();
  const article = page.getByRole("article");
  await expect(article).toContainText("Job 7/26. Technician: Ines Marrow.");
  await expect(article).toContainText("not there any more");
  const shown = ((await article.textContent()) ?? "").replace(/\s+/g, " ");
  const file = await (await page.request.get(`/api/jobs/${id}/report?form=html&for=client`)).text();
  const kept = file
    .replace(/<style>.*?<\/style>/s, "")
    .replace(/<[^>]+>/g, " ")
    .replace(/&#(\d+);/g, (_, code: string) => String.fromCharCode(Number(code)))
    .replace(/\s+/g, " ");
  for (const words of ["Job 7/26. Technician: Ines Marrow.", "not there any more", "What to do now"]) {
    expect(shown).toContain(words);
    expect(kept).toContain(words);
  }
});

test("a folder is put on the list of source folders, and is what the window begins with", async ({ page }) => {
  const { id } = await readStick(page, "A folder on the list", "fat12");
  const folder = join(process.env.COMPASS_SOURCES as string, "Sticks of the spring");
  mkdirSync(folder, { recursive: true });
  await page.goto(`/jobs/${id}/sources`);
  const open = () => page.getByRole("button", { name: "Add a source" }).click();
  await open();
  const dialog = page.getByRole("dialog");
  await dialog.getByRole("textbox", { name: "Path of a folder or image" }).fill(folder);
  await dialog.getByRole("button", { name: "Go", exact: true }).click();
  await dialog.getByRole("button", { name: "Put on the list" }).click();
  await expect(dialog.getByRole("button", { name: "Take off the list" })).toBeVisible();
  await page.reload();
  await open();
  await dialog.getByRole("button", { name: folder }).click();
  await dialog.getByRole("button", { name: "Take off the list" }).click();
  await expect(dialog.getByRole("button", { name: "Put on the list" })).toBeVisible();
  await page.reload();
  await open();
  await expect(dialog.getByRole("button", { name: "Look again" }).or(dialog.getByRole("list", { name: "Drives" }))).toBeVisible();
  await expect(dialog.getByRole("button", { name: folder })).toHaveCount(0);
});

test("twenty sources are a page: grouped in the plan and the search, several chosen at once", async ({ page }) => {
  const { id } = (await (await page.request.post("/api/jobs", { data: { title: "Twenty sticks", client: "" } })).json()) as { id: number };
  for (let number = 1; number <= 20; number += 1) {
    const path = join(process.env.COMPASS_SOURCES as string, `stick ${String(number).padStart(2, "0")}.img`);
    writeFileSync(path, fixture("fat12.img.gz"));
    await page.request.post(`/api/jobs/${id}/sources`, { data: { path } });
  }
  await page.goto(`/jobs/${id}/account`);
  const steps = page.getByRole("list", { name: "Steps of the plan" });
  await expect(steps.getByText("20 volumes").first()).toBeVisible();
  expect(await steps.locator("> li").count()).toBeLessThan(20);
  await page.goto(`/jobs/${id}/search`);
  await expect(page.getByText("File records of all 20 volumes")).toBeVisible();
  await page.goto(`/jobs/${id}/sources`);
  const tree = page.getByRole("tree", { name: "Sources and volumes" });
  await tree.getByText("stick 01.img").click();
  await tree.getByText("stick 02.img").click({ modifiers: ["Control"] });
  await tree.getByText("stick 03.img").click({ modifiers: ["Control"] });
  const several = page.getByRole("region", { name: "Chosen sources" });
  await expect(several).toContainText("3 sources chosen");
  // Presses that come quicker than the page is drawn count as well.
  await tree.evaluate(async (element) => {
    for (const name of ["stick 04.img", "stick 05.img", "stick 06.img", "stick 07.img"]) {
      const label = [...element.querySelectorAll("b")].find(({ textContent }) => textContent === name);
      label?.dispatchEvent(new MouseEvent("click", { bubbles: true, ctrlKey: true }));
      await new Promise((resolve) => setTimeout(resolve, 0));
    }
  });
  await expect(several).toContainText("7 sources chosen");
  await several.getByRole("button", { name: /Read their records \(7\)/ }).click();
  await expect(several.getByRole("button", { name: /Read their records \(0\)/ })).toBeDisabled({ timeout: 30_000 });
  await page.getByRole("button", { name: "Fold away" }).click();
  await expect(page.getByRole("button", { name: "Show the chart" })).toBeVisible();
});
