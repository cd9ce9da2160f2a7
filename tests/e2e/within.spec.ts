import { mkdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { expect, test } from "@playwright/test";
import { chooseRow } from "../support/choose-row";
import { readRecords } from "../support/read-records";
import { fixture } from "../support/volume-truth";

test("a stick on a virtual disk on a drive: each is opened where it lies, searched, and its files restored", async ({ page }) => {
  test.setTimeout(120_000);
  const path = join(process.env.COMPASS_SOURCES as string, "backup drive.img");
  writeFileSync(path, fixture("nested.img.gz"));
  const post = async (to: string, data: unknown) => (await (await page.request.post(to, { data })).json()) as { id: number };
  const { id } = await post("/api/jobs", { title: "A stick in a backup", client: "" });
  await post(`/api/jobs/${id}/sources`, { path });
  const readAll = () => readRecords(page, id);
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  const openInside = async (name: string, source: string) => {
    const sources = (await (await page.request.get(`/api/jobs/${id}/sources`)).json()) as { id: number; name: string }[];
    const around = sources.find((each) => each.name === source)?.id;
    await page.goto(`/jobs/${id}/items?show=all&source=${around}&q=${encodeURIComponent(name)}`);
    await page.getByRole("grid", { name: "Items" }).getByRole("row").filter({ hasText: name }).first().click();
    await inspector.getByRole("button", { name: "Open what is inside" }).click();
    await expect(inspector.getByText("It is a source of its own now")).toBeVisible();
  };
  await readAll();
  await openInside("laptop.vhdx", "backup drive.img");
  await inspector.getByRole("link", { name: "See what is on it" }).click();
  const tree = page.getByRole("tree", { name: "Sources and volumes" });
  await expect(tree.getByRole("treeitem", { name: /laptop\.vhdx/ }).last()).toBeVisible();
  await expect(page.getByRole("region", { name: "Structure" })).toContainText("in it Backups/laptop.vhdx");
  await expect(page.getByRole("table", { name: "Volumes" }).getByRole("row", { name: /Laptop NTFS/ })).toBeVisible();
  await readAll();
  await openInside("blue stick.img", "laptop.vhdx");
  await readAll();
  // It stands on the tree below the volumes around it.
  await page.goto(`/jobs/${id}/sources`);
  await expect(tree.getByRole("treeitem", { name: /blue stick\.img/ }).last()).toBeVisible();
  await expect(tree.getByRole("treeitem", { name: /^BLUE/ })).toBeVisible();
  // A file that was deleted on the stick is shown and restored.
  await page.goto(`/jobs/${id}/items?q=thrown`);
  const row = page.getByRole("grid", { name: "Items" }).getByRole("row").filter({ hasText: "thrown away.bin" }).first();
  await chooseRow(row);
  await page.goto(`/jobs/${id}/restore`);
  await page.getByRole("button", { name: /^Restore \d/ }).click();
  await expect(page.getByText(/files? written, read again and the same/).first()).toBeVisible({ timeout: 30_000 });
  // The drive does not go without a word of what was found in it and inside it.
  await page.goto(`/jobs/${id}/sources`);
  await tree
    .getByRole("treeitem", { name: /backup drive\.img/ })
    .first()
    .getByText("backup drive.img")
    .click();
  await page.getByRole("button", { name: "Remove from the job" }).click();
  await page.getByRole("button", { name: "Remove it with all that was found in it" }).click();
  await expect(page.getByText("No source yet.")).toBeVisible();
});

test("a file that is called like an image and is none says so", async ({ page }) => {
  const path = join(process.env.COMPASS_SOURCES as string, "shelf of notes");
  mkdirSync(path, { recursive: true });
  writeFileSync(join(path, "holiday.img"), "no disk at all\n".repeat(8000));
  const post = async (to: string, data: unknown) => (await (await page.request.post(to, { data })).json()) as { id: number };
  const { id } = await post("/api/jobs", { title: "No image", client: "" });
  await post(`/api/jobs/${id}/sources`, { path });
  const [source] = (await (await page.request.get(`/api/jobs/${id}/sources`)).json()) as { volumes: { id: number }[] }[];
  await post(`/api/jobs/${id}/passes`, { storeId: source?.volumes[0]?.id });
  await page.goto(`/jobs/${id}/items?show=all`);
  await page.getByRole("grid", { name: "Items" }).getByRole("row").filter({ hasText: "holiday.img" }).click({ timeout: 20_000 });
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  await inspector.getByRole("button", { name: "Open what is inside" }).click();
  await expect(inspector.getByRole("alert")).toContainText("No disk image is recognised in “holiday.img”");
});
