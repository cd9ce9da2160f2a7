import { mkdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { expect, type Page, test } from "@playwright/test";
import { fixture } from "../support/volume-truth";

test.describe.configure({ mode: "serial" });

/** A job of its own with one image. */
async function jobWith(page: Page, image: string): Promise<number> {
  const path = join(process.env.COMPASS_SOURCES as string, `raw-${image}.img`);
  mkdirSync(process.env.COMPASS_SOURCES as string, { recursive: true });
  writeFileSync(path, fixture(`${image}.img.gz`));
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
