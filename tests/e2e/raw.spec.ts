import { mkdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { expect, type Page, test } from "@playwright/test";
import { carveImage, type PlacedFile } from "../support/lab-files";
import { diskWithFarPiece, FAR_AWAY } from "../support/pieces-disk";
import { fixture } from "../support/volume-truth";

test.describe.configure({ mode: "serial" });

/** A job of its own with one image: a fixture, or the bytes given. */
async function jobWith(page: Page, image: string, bytes: Uint8Array = fixture(`${image}.img.gz`)): Promise<number> {
  const path = join(process.env.COMPASS_SOURCES as string, `raw-${image}.img`);
  mkdirSync(process.env.COMPASS_SOURCES as string, { recursive: true });
  writeFileSync(path, bytes);
  await page.goto("/");
  const headers = { origin: new URL(page.url()).origin };
  const made = await page.request.post("/api/jobs", { data: { title: `Raw content of ${image}`, client: "" }, headers });
  const { id } = (await made.json()) as { id: number };
  const added = await page.request.post(`/api/jobs/${id}/sources`, { data: { path }, headers });
  expect(added.ok(), await added.text()).toBe(true);
  return id;
}

test("a formatted camera card gives its pictures back", async ({ page }) => {
  const id = await jobWith(page, "camera-formatted");
  await page.goto(`/jobs/${id}/search`);
  const form = page.getByRole("region", { name: "Raw content" });
  await form.getByRole("checkbox", { name: "Pictures" }).check();
  // The part is typed or dragged; the whole is what is asked for.
  const sizes = form.getByText(/MiB to look through/);
  const whole = await sizes.textContent();
  await form.getByRole("spinbutton", { name: "Sweep from percent" }).fill("50");
  await expect(sizes).not.toHaveText(whole ?? "");
  await form.getByRole("slider", { name: /begins/ }).focus();
  await page.keyboard.press("Home");
  await expect(sizes).toHaveText(whole ?? "");
  await form.getByRole("button", { name: "Start the sweep" }).click();
  const pass = page.getByRole("list", { name: "Passes" }).getByRole("listitem").filter({ hasText: "Raw content of" });
  await expect(pass).toContainText("finished", { timeout: 30_000 });
  await expect(pass).toContainText(/\d+ lost/);
  await pass.getByRole("link", { name: /pictures/ }).click();
  const list = page.getByRole("grid", { name: "Items" });
  const photo = list.getByRole("row").filter({ hasText: "Lumora" }).first();
  await expect(photo).toContainText("whole");
  await page.getByRole("button", { name: "Originals only" }).click();
  await photo.click();
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  await expect(inspector).toContainText("raw content at");
  await expect(inspector).toContainText("by the camera’s clock");
  await page.getByRole("button", { name: "Columns" }).click();
  await page.getByRole("checkbox", { name: "Show Pixels" }).check();
  await page.keyboard.press("Escape");
  await expect(list.getByRole("columnheader", { name: "Pixels" })).toBeVisible();
  await expect(photo).toContainText(/\d+ × \d+/);
});

test("files without any file system are found, and a damaged picture is repaired", async ({ page }) => {
  const id = await jobWith(page, "carve");
  await page.goto(`/jobs/${id}/search`);
  const form = page.getByRole("region", { name: "Raw content" });
  await form.getByRole("checkbox", { name: /Every byte/ }).check();
  const began = Date.now();
  await form.getByRole("button", { name: "Start the sweep" }).click();
  const pass = page.getByRole("list", { name: "Passes" }).getByRole("listitem").filter({ hasText: "Raw content" });
  await expect(pass).toContainText(/[1-9]\d* in hand.+, [\d.]+ [KM]iB/, { timeout: 60_000 });
  console.log(`the first finds were on the screen after ${((Date.now() - began) / 1000).toFixed(1)} s`);
  await expect(pass).toContainText("finished", { timeout: 60_000 });
  await expect(pass).toContainText(/[1-9]\d* lost/);
  await expect(pass).not.toContainText("in hand");
  console.log(`64 MiB were swept byte by byte in ${((Date.now() - began) / 1000).toFixed(1)} s`);
  await page.goto(`/jobs/${id}/items?condition=partial&kind=pictures`);
  await page.getByRole("grid", { name: "Items" }).getByRole("row").filter({ hasText: ".jpg" }).first().click();
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  await inspector.getByRole("button", { name: "Try to repair it" }).click();
  const repair = inspector.getByRole("region", { name: "Repair" });
  await expect(repair).toContainText("does not open: the picture data");
  await expect(repair.getByRole("img", { name: "Repaired" })).toBeVisible();
  await repair.getByRole("button", { name: "Write the repaired file" }).click();
  await expect(repair.getByRole("status")).toContainText(/Repaired.* \(repaired\)\.jpg.*SHA-256/);
});

test("a picture whose second piece lies far away is laid by hand, taken back, and found by a longer look", async ({ page }) => {
  const { bytes, files } = carveImage();
  const { extents, size } = files.find(
    (file) => file.kind === "png" && file.size > 50_000 && !file.state.startsWith("truncated"),
  ) as PlacedFile;
  const picture = Buffer.concat(extents.map(([, at, length]) => bytes.subarray(at, at + length)));
  const cut = Math.floor(picture.length / 8192) * 4096;
  const id = await jobWith(page, "far piece", diskWithFarPiece(picture, cut, 4096));
  await page.goto(`/jobs/${id}/search`);
  await page.getByRole("region", { name: "Raw content" }).getByRole("button", { name: "Start the sweep" }).click();
  const pass = page.getByRole("list", { name: "Passes" }).getByRole("listitem").filter({ hasText: "Raw content of" });
  await expect(pass).toContainText("finished", { timeout: 60_000 });
  await page.goto(`/jobs/${id}/items?kind=pictures`);
  const row = page.getByRole("grid", { name: "Items" }).getByRole("row").filter({ hasText: ".png" });
  await expect(row).toContainText("% left");
  await row.click();
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  // By the keyboard alone.
  await inspector.getByRole("button", { name: "Lay its pieces by hand" }).focus();
  await page.keyboard.press("Enter");
  const pieces = inspector.getByRole("region", { name: "Pieces" });
  await expect(pieces.getByRole("status")).toContainText("breaks off at byte");
  await expect(pieces.getByRole("button", { name: "Keep as a copy" })).toBeDisabled();
  await pieces.getByRole("button", { name: "Add a seam" }).focus();
  await page.keyboard.press("Enter");
  const ends = pieces.getByRole("textbox", { name: "Piece 1 ends" });
  await ends.fill(String(cut + 4096));
  await page.keyboard.press("Enter");
  const begins = pieces.getByRole("textbox", { name: "Piece 2 begins" });
  await begins.fill(`0x${(FAR_AWAY + 4096).toString(16)}`);
  await page.keyboard.press("Enter");
  await expect(pieces.getByRole("status")).toContainText("breaks off at byte");
  // The seam goes back by a cluster, and what comes behind it with it.
  await pieces.getByRole("button", { name: "Piece 1 ends one cluster earlier" }).focus();
  await page.keyboard.press("Enter");
  await expect(pieces.getByRole("status")).toContainText("followed to its end and sound; kept, it would be “whole”");
  await expect(pieces.getByRole("img", { name: "As its pieces are laid now" })).toHaveJSProperty("complete", true);
  // Outside the disk nothing is laid, and what was laid stays to go on from.
  await begins.fill(String(FAR_AWAY + size));
  await page.keyboard.press("Enter");
  await expect(pieces.getByRole("status")).toContainText("breaks off at byte");
  await pieces.getByRole("button", { name: "As they were" }).click();
  await expect(begins).toHaveCount(0);
  await pieces.getByRole("button", { name: "Add a seam" }).click();
  await ends.fill(String(cut));
  await page.keyboard.press("Enter");
  await begins.fill(String(FAR_AWAY));
  await page.keyboard.press("Enter");
  await expect(pieces.getByRole("status")).toContainText("it would be “whole”");
  await pieces.getByRole("button", { name: "Keep as a copy" }).click();
  await expect(row).toContainText("whole");
  await expect(inspector).toContainText("laid by hand");
  await expect(inspector.getByRole("list", { name: "Copies" }).getByRole("button", { name: /best/ })).toHaveCount(1);
  await inspector.getByRole("button", { name: "Take this copy away" }).click();
  await expect(row).toContainText("% left");
  await inspector.getByRole("button", { name: "Look longer for its pieces" }).click();
  await expect(row).toContainText("whole", { timeout: 60_000 });
  await expect(inspector).toContainText("Its pieces were found by a longer look.");
});
