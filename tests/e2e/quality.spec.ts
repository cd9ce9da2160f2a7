import { spawnSync } from "node:child_process";
import { writeFileSync } from "node:fs";
import { join } from "node:path";
import AxeBuilder from "@axe-core/playwright";
import { expect, type Page, test } from "@playwright/test";
import { manyVolumes } from "../support/many-volumes";
import { SMALL_NTFS, smallDisk } from "../support/small-disk";
import { fixture, readTruth } from "../support/volume-truth";

const VIEWS = [
  "/",
  "/settings",
  "/places",
  "/jobs/3/account",
  "/jobs/3/sources",
  "/jobs/1/account",
  "/jobs/1/sources",
  "/jobs/1/search",
  "/jobs/1/items?item=FIRST",
  "/jobs/1/items?view=pictures&kind=pictures",
  "/jobs/1/restore",
  "/jobs/1/handover",
  "/jobs/1/handover?for=file",
];

/** Makes sure that the demo job has been read. @returns the id of its first lost item */
async function readDemo(page: Page): Promise<string> {
  await page.goto("/jobs/1/search");
  const start = page.getByRole("button", { name: "Read records" });
  await start
    .or(page.getByText(/finished in/))
    .first()
    .waitFor();
  if (await start.isVisible()) await start.click();
  await page.getByText(/finished in/).waitFor({ timeout: 30_000 });
  const { items } = (await (await page.request.get("/api/jobs/1/items")).json()) as { items: { id: number }[] };
  return String(items[0]?.id);
}

for (const scheme of ["light", "dark"] as const) {
  test(`no view has an accessibility violation, ${scheme === "light" ? "day" : "night"}`, async ({ browser, baseURL }) => {
    test.setTimeout(180_000);
    const context = await browser.newContext({ colorScheme: scheme, baseURL: baseURL ?? "" });
    const page = await context.newPage();
    const first = await readDemo(page);
    for (const view of VIEWS) {
      await page.goto(view.replace("FIRST", first));
      await page.waitForLoadState("networkidle").catch(() => undefined);
      const { violations } = await new AxeBuilder({ page }).analyze();
      expect(
        violations.map((violation) => `${view}: ${violation.id} ${violation.nodes.map((node) => node.target.join(" ")).join(", ")}`),
      ).toEqual([]);
    }
    await context.close();
  });
}

test("the way to a verified file, by keyboard alone", async ({ page }) => {
  await readDemo(page);
  await page.goto("/");
  await page.getByRole("link", { name: "Funding application and log" }).waitFor();
  // The key is heard once the page has come to life.
  const goTo = page.getByRole("combobox", { name: "Go to" });
  await expect(async () => {
    await page.keyboard.press("Control+k");
    await expect(goTo).toBeVisible({ timeout: 2000 });
  }).toPass();
  await page.keyboard.type("funding");
  await page.keyboard.press("Enter");
  await expect(page).toHaveURL(/\/jobs\/1\/account/);
  await page.keyboard.press("4");
  await expect(page).toHaveURL(/\/jobs\/1\/items/);
  await page.getByRole("searchbox", { name: "Search items" }).waitFor();
  await page.keyboard.press("/");
  await page.keyboard.type("letter of support");
  const row = page.getByRole("row", { name: /Letter of support/ });
  await expect(row).toBeVisible();
  await expect(page.getByRole("grid", { name: "Items" })).toHaveAttribute("aria-rowcount", "2");
  // From the search field on, Tab leads to the list.
  for (let presses = 0; presses < 40; presses += 1) {
    await page.keyboard.press("Tab");
    if (await page.evaluate(() => document.activeElement?.getAttribute("role") === "grid")) break;
  }
  await page.keyboard.press("ArrowDown");
  await page.keyboard.press("Enter");
  await expect(row.getByRole("checkbox")).toBeChecked();
  await page.keyboard.press("Space");
  await expect(page.getByRole("dialog")).toContainText("Our pupils come to the observatory");
  await page.keyboard.press("Escape");
  await page.keyboard.press("5");
  const restore = page.getByRole("button", { name: /^Restore \d/ });
  await expect(restore).toBeEnabled();
  for (let presses = 0; presses < 40; presses += 1) {
    await page.keyboard.press("Tab");
    if (await restore.evaluate((button) => button === document.activeElement)) break;
  }
  await page.keyboard.press("Enter");
  await expect(page.getByText(/files? written, read again and the same/).first()).toBeVisible({ timeout: 30_000 });
  await page.keyboard.press("?");
  await expect(page.getByRole("dialog", { name: "Keys" })).toBeVisible();
  await page.keyboard.press("Escape");
});

test("a choice shows within the click, whatever the server is doing, and goes back when it cannot be kept", async ({ page }) => {
  await readDemo(page);
  await page.goto("/jobs/1/items?q=letter+of+support");
  const box = page.getByRole("row", { name: /Letter of support/ }).getByRole("checkbox");
  await expect(box).toBeVisible();
  if (await box.isChecked()) await box.click();
  await expect(box).not.toBeChecked();
  await page.waitForLoadState("networkidle").catch(() => undefined);

  // The list is on its way, as it was before the choice, and the choice itself is slow.
  let letGo = () => {};
  const held = new Promise<void>((done) => {
    letGo = done;
  });
  const changes = (url: URL) => url.pathname === "/api/jobs/1/tray";
  await page.route(changes, async (route) => {
    if (route.request().method() !== "POST") return route.continue();
    await held;
    return route.continue();
  });
  const within = await box.evaluate((element) => {
    const input = element as HTMLInputElement;
    input.click();
    return input.checked;
  });
  expect(within).toBe(true);
  await page.waitForTimeout(300);
  await expect(box).toBeChecked();
  await box.click();
  await expect(box).not.toBeChecked();
  await box.click();
  letGo();
  await page.waitForLoadState("networkidle").catch(() => undefined);
  await expect(box).toBeChecked();
  await page.unroute(changes);

  await page.route(changes, (route) => (route.request().method() === "POST" ? route.abort() : route.continue()));
  await box.click();
  await expect(page.getByRole("alert").first()).toBeVisible();
  await expect(box).toBeChecked();
  await page.unroute(changes);
  await box.click();
  await expect(box).not.toBeChecked();
});

test("previews of each kind show the content", async ({ page }) => {
  await readDemo(page);
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  const open = async (name: string) => {
    await page.goto(`/jobs/1/items?q=${encodeURIComponent(`"${name}"`)}`);
    await page.getByRole("row", { name: new RegExp(name.replace(".", "\\.")) }).click();
  };
  await open("Quotation for the mirror.pdf");
  await expect(inspector.getByRole("img", { name: "Page 1" })).toHaveAttribute("data-state", "drawn", { timeout: 20_000 });
  await open("Members.db");
  await expect(inspector.getByRole("tab", { name: "members" })).toBeVisible();
  await inspector.getByRole("tab", { name: "members" }).click();
  await expect(inspector.getByRole("cell", { name: "Cleo Vane" })).toBeVisible();
  await open("Newsletter 2025.zip");
  await expect(inspector.getByRole("cell", { name: "pictures/list.txt" })).toBeVisible();
  await open("Closing bell.wav");
  await expect.poll(() => inspector.locator("audio").evaluate((audio: HTMLAudioElement) => Math.round(audio.duration))).toBe(3);
  await open("観測メモ.txt");
  await expect(inspector.locator("pre")).toContainText("月齢八");
  await inspector.getByRole("button", { name: "Show bytes" }).click();
  await expect(inspector.locator("pre")).toContainText("000000  E6 9C 88");
  await open("Panorama of the valley.jpg");
  // Its beginning was taken by a smaller picture: what is shown is said to be possibly another file's.
  await expect(inspector).toContainText(/\d+ % left/);
  await expect(inspector).toContainText("parts of it are overwritten");
  await open("trails 02.jpg");
  await expect(inspector).toContainText("JPEG picture, 1200 × 800 pixels");
});

test("two copies of a workbook are compared by cell, and the other can be taken", async ({ page }) => {
  await readDemo(page);
  await page.goto("/jobs/1/items?q=%22Observing+workbook%22");
  await page.getByRole("row", { name: /Observing workbook/ }).click();
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  await expect(inspector).toContainText("The lost one; the live file of this name needs no rescue.");
  await inspector.getByRole("button", { name: "Compare", exact: true }).click();
  const dialog = page.getByRole("dialog", { name: /Two copies of/ });
  // Nights 213 to 300 hold zeros in the wrong edit; a rounded magnitude is never just zero.
  await expect(dialog).toContainText("88 cells differ");
  await expect(dialog.getByRole("cell", { name: "C214", exact: true })).toBeVisible();
  await page.goBack();
  await expect(dialog).toHaveCount(0);
  await inspector.getByRole("list", { name: "Copies" }).getByRole("button", { name: /live/ }).click();
  await inspector.getByRole("button", { name: "Take this copy instead" }).click();
  await expect(inspector).toContainText("Chosen by hand.");
  await inspector.getByRole("button", { name: "Leave the choice to the bench" }).click();
  // What is said stands beside the copy it is said of.
  await expect(inspector).toContainText("The file as it is today; the best copy is the lost one.");
  await inspector
    .getByRole("list", { name: "Copies" })
    .getByRole("button", { name: /deleted/ })
    .click();
  await expect(inspector).toContainText("The lost one");
});

test("copies of two different items are compared: one is kept in hand", async ({ page }) => {
  await readDemo(page);
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  await page.goto("/jobs/1/items?q=%22Letter+of+support%22");
  await page.getByRole("row", { name: /Letter of support/ }).click();
  await inspector.getByRole("button", { name: "Keep in hand to compare" }).click();
  await expect(inspector).toContainText("In hand: open another item");
  await page.getByRole("searchbox", { name: "Search items" }).fill("funding application.docx");
  await page.getByRole("row", { name: /Funding application\.docx/ }).click();
  await inspector.getByRole("button", { name: /Compare with Letter of support/ }).click();
  const dialog = page.getByRole("dialog", { name: /Two copies of Funding application\.docx and Letter of support/ });
  await expect(dialog).toContainText(/lines differ/);
  await expect(dialog).toContainText("Our pupils come to the observatory");
  await page.reload();
  await expect(dialog).toContainText(/lines differ/);
});

test("the bytes of a picture have its structure to go by", async ({ page }) => {
  await readDemo(page);
  await page.goto("/jobs/1/items?q=%22trails+02.jpg%22");
  await page.getByRole("row", { name: /trails 02\.jpg/ }).click();
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  await inspector.getByRole("button", { name: "Show bytes" }).click();
  const structure = inspector.getByRole("combobox", { name: "Structure" });
  await expect(structure).toContainText("SOF");
  const end = await structure.locator("option", { hasText: "EOI" }).getAttribute("value");
  await structure.selectOption({ value: end as string });
  await expect(inspector.locator("pre")).toContainText("FF D9");
});

test("narrowing, ordering and columns are kept: in the address, and in this browser", async ({ page }) => {
  await readDemo(page);
  await page.goto("/jobs/1/items");
  await page
    .getByRole("region", { name: "Kind" })
    .getByRole("button", { name: /Pictures/ })
    .click();
  await page.getByRole("columnheader", { name: "Size" }).getByRole("button", { name: "Size" }).click();
  await page.getByRole("button", { name: "Columns" }).click();
  await page.getByRole("checkbox", { name: "Show Changed" }).check();
  await page.keyboard.press("Escape");
  const grid = page.getByRole("grid", { name: "Items" });
  const first = () => grid.getByRole("row").nth(1).textContent();
  await expect(grid.getByRole("columnheader", { name: "Changed" })).toBeVisible();
  await expect(grid.getByRole("columnheader", { name: "Size" })).toHaveAttribute("aria-sort", "ascending");
  const before = await first();
  await page.reload();
  await expect(grid.getByRole("columnheader", { name: "Changed" })).toBeVisible();
  await expect.poll(first).toBe(before);
  await page.goBack();
  await expect(grid.getByRole("columnheader", { name: "Item" })).toHaveAttribute("aria-sort", "ascending");
  await page.goBack();
  await expect(page).not.toHaveURL(/kind=/);
});

test("the handover can be kept as a page, a sheet and data", async ({ page }) => {
  const form = async (name: string) => page.request.get(`/api/jobs/1/report?form=${name}`);
  expect(await (await form("html")).text()).toContain("<h2>What was searched</h2>");
  expect(await (await form("csv")).text()).toMatch(/^restore,destination,file,result/);
  expect(((await (await form("json")).json()) as { job: { id: number } }).job.id).toBe(1);
  expect((await form("exe")).status()).toBe(400);
});

test("the chart says whose byte is under the pointer", async ({ page }) => {
  await readDemo(page);
  const { items } = (await (await page.request.get("/api/jobs/1/items?q=Opening+night")).json()) as { items: { id: number }[] };
  const item = (await (await page.request.get(`/api/items/${items[0]?.id}`)).json()) as {
    list: { runs: { at: number; length: number }[] }[];
  };
  const run = item.list[0]?.runs[0];
  await page.goto(`/jobs/1/sources?at=${(run?.at ?? 0) + 100}`);
  await expect(page.getByRole("status").filter({ hasText: "belongs to" })).toContainText("Opening night.jpg, a lost file");
});

test("the chart's layers are switched, kept in the address, and single stretches are fetched near by", async ({ page }) => {
  await readDemo(page);
  const asked = page.waitForResponse((response) => response.url().includes("/runs?"));
  await page.goto("/jobs/1/sources");
  const { runs } = (await (await asked).json()) as { runs: number[] };
  expect(runs.length).toBeGreaterThan(2);
  const chart = page.getByRole("region", { name: "Structure" }).locator("canvas");
  const drawn = () => chart.evaluate((canvas: HTMLCanvasElement) => canvas.toDataURL());
  await page.waitForTimeout(800);
  const full = await drawn();
  await page.getByRole("checkbox", { name: "in use" }).click();
  await expect.poll(drawn).not.toBe(full);
  await page.reload();
  await expect(page.getByRole("checkbox", { name: "in use" })).not.toBeChecked();
  await page.getByRole("checkbox", { name: "in use" }).click();
  await expect(page).not.toHaveURL(/hide=/);
  await expect.poll(drawn).toBe(full);
});

test("in a small window (1280 x 800 enlarged to 200 %) nothing overlaps and everything can be reached", async ({ page }) => {
  await readDemo(page);
  await page.setViewportSize({ width: 640, height: 400 });
  await page.goto("/jobs/1/items");
  const boxes = await Promise.all(
    [
      page.getByRole("link", { name: "Handover" }),
      page.getByRole("link", { name: /tray/ }),
      page.getByRole("button", { name: "Columns" }),
    ].map((each) => each.boundingBox()),
  );
  for (const [index, one] of boxes.entries())
    for (const other of boxes.slice(index + 1)) {
      if (!one || !other) throw new Error("not in sight");
      const apart =
        one.x + one.width <= other.x || other.x + other.width <= one.x || one.y + one.height <= other.y || other.y + other.height <= one.y;
      expect(apart).toBe(true);
    }
  await page.getByRole("row", { name: /Letter of support/ }).click();
  await expect(page.getByText("Our pupils come to the observatory")).toBeVisible();
  await page.getByRole("button", { name: "Back to the list" }).click();
  await expect(page.getByRole("row", { name: /Letter of support/ })).toBeVisible();
  expect(await page.evaluate(() => document.documentElement.scrollWidth)).toBeLessThanOrEqual(640);
});

test("a disk whose partition table is gone shows its volumes as lost ones; an encrypted one says so before any pass", async ({ page }) => {
  const folder = process.env.COMPASS_SOURCES as string;
  const lost = smallDisk([[446, 64]]);
  const closed = smallDisk();
  closed.set(Buffer.from("-FVE-FS-"), SMALL_NTFS.offset + 3);
  writeFileSync(join(folder, "no-table.img"), lost);
  writeFileSync(join(folder, "closed.img"), closed);
  const { id } = (await (await page.request.post("/api/jobs", { data: { title: "Found again", client: "" } })).json()) as { id: number };
  await page.goto(`/jobs/${id}/sources`);
  for (const name of ["no-table.img", "closed.img"]) {
    await page.getByRole("button", { name: "Add a source" }).click();
    const browser = page.getByRole("dialog", { name: "Add a source" });
    await browser.getByRole("button", { name: /e2e-sources/ }).click();
    await browser.getByRole("button", { name }).click();
    await expect(page.getByRole("treeitem", { name }).first()).toBeVisible({ timeout: 20_000 });
  }
  await expect(page.getByRole("treeitem", { name: /Data_open_C NTFS, .*lost volume/ })).toBeVisible();
  await page.getByRole("treeitem", { name: /Data_open_C NTFS, .*lost volume/ }).click();
  await expect(page.getByText("There is no partition table any more")).toBeVisible();
  await page.getByRole("treeitem", { name: /encrypted/ }).click();
  await expect(page.getByText(/Ask the client for the key/).first()).toBeVisible();
  await page.goto(`/jobs/${id}/search`);
  await expect(page.getByText(/volume 0 of closed\.img: The whole volume is encrypted/i)).toBeVisible();
  await expect(page.getByText("File records of Data_open_C")).toBeVisible();
  await expect(page.getByText("File records of volume 0")).toHaveCount(0);
});

test("a volume that was read gives its users' profiles and what does not add up in it", async ({ page }) => {
  const path = join(process.env.COMPASS_SOURCES as string, "odd.img");
  const bytes = smallDisk();
  const counted = readTruth("small-mbr").entries.find((entry) => entry.type === "file" && entry.state === "live" && entry.mft);
  // Offset 18 of a file record: how many names it has.
  const at = SMALL_NTFS.mftAt + (counted?.mft?.record as number) * 1024 + 18;
  bytes[at] = (bytes[at] as number) + 3;
  writeFileSync(path, bytes);
  const { id } = (await (await page.request.post("/api/jobs", { data: { title: "Odd counts", client: "" } })).json()) as { id: number };
  await page.request.post(`/api/jobs/${id}/sources`, { data: { path } });
  await page.goto(`/jobs/${id}/search`);
  // Going away at once would take the wish back before it is sent.
  const wished = page.waitForResponse((response) => response.request().method() === "POST" && response.url().endsWith("/passes"));
  await page.getByRole("button", { name: "Read records" }).first().click();
  await wished;
  await page.goto(`/jobs/${id}/sources`);
  await page.getByRole("treeitem", { name: /Data_open_C NTFS/ }).click();
  await expect(page.getByRole("table", { name: /Profiles/ }).getByRole("cell", { name: "Users/jbrevik" })).toBeVisible({ timeout: 30_000 });
  await expect(page.getByText("Files whose record counts another number of names than it has.")).toBeVisible();
  await expect(page.getByText(`(MFT record ${counted?.mft?.record}): `)).toBeVisible();
});

test("a source of many volumes stays readable: they are read together, or one by one", async ({ page }) => {
  const path = join(process.env.COMPASS_SOURCES as string, "many.img");
  writeFileSync(path, manyVolumes(14));
  const { id } = (await (await page.request.post("/api/jobs", { data: { title: "Many volumes", client: "" } })).json()) as { id: number };
  await page.request.post(`/api/jobs/${id}/sources`, { data: { path } });
  await page.goto(`/jobs/${id}/sources`);
  await expect(page.getByRole("treeitem", { name: /FAT12/ })).toHaveCount(14);
  await page.goto(`/jobs/${id}/search`);
  const open = page.getByRole("list", { name: "Volumes not read yet" });
  await expect(open.getByText("File records of all 14 volumes")).toBeVisible();
  await expect(open.getByRole("button", { name: "Read records" })).toHaveCount(1);
  // One of them by itself, then all that are left.
  await open.getByText("File records of each volume by itself").click();
  await expect(open.getByRole("button", { name: "Read records" })).toHaveCount(15);
  await open.getByRole("button", { name: "Read records" }).nth(3).click();
  await expect(open.getByText("File records of all 13 volumes")).toBeVisible();
  await open.getByRole("button", { name: "Read records" }).first().click();
  await expect(open.getByText(/File records/)).toHaveCount(0, { timeout: 30_000 });
  const finished = page.getByText(/14 finished passes: [1-9]\d* lost or in known places, [1-9]\d* live/);
  await expect(finished).toBeVisible({ timeout: 60_000 });
  await finished.click();
  await expect(page.getByRole("list", { name: "Finished passes" }).getByRole("listitem")).toHaveCount(14);
});

test("a connected drive is read itself; no other device is", async ({ page }) => {
  const image = join(process.env.COMPASS_SOURCES as string, "..", "stick.img");
  writeFileSync(image, fixture("fat32.img.gz"));
  const made = spawnSync("losetup", ["--find", "--show", "--read-only", image], { encoding: "utf8" });
  test.skip(made.status !== 0, "the system does not let us make a device of a file");
  const device = made.stdout.trim();
  try {
    const { id } = (await (await page.request.post("/api/jobs", { data: { title: "A stick", client: "" } })).json()) as { id: number };
    await page.goto(`/jobs/${id}/sources`);
    await page.getByRole("button", { name: "Add a source" }).click();
    const drives = page.getByRole("dialog", { name: "Add a source" }).getByRole("list", { name: "Drives" });
    await drives.getByRole("button", { name: device.slice("/dev/".length) }).click();
    await expect(page.getByRole("treeitem", { name: /FAT32/ })).toBeVisible({ timeout: 20_000 });
    await expect(page.getByText(/^Drive, /)).toBeVisible();
    await page.goto(`/jobs/${id}/search`);
    await page.getByRole("button", { name: "Read records" }).first().click();
    await expect(page.getByText(/finished in/)).toBeVisible({ timeout: 30_000 });
    // Another device is none that is offered.
    const refused = await page.request.post(`/api/jobs/${id}/sources`, { data: { path: "/dev/null" } });
    expect(refused.status()).toBe(403);
  } finally {
    spawnSync("losetup", ["-d", device]);
  }
});
