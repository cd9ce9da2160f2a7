import { mkdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { expect, test } from "@playwright/test";
import { fixture } from "../support/volume-truth";

test.describe.configure({ mode: "serial" });

test("the formatted camera card gives its pictures back", async ({ page }) => {
  await page.goto("/");
  await page.getByRole("link", { name: "Anniversary night and newsletter" }).click();
  await page.getByRole("navigation", { name: "Stages of the job" }).getByRole("link", { name: "Search" }).click();
  const form = page.getByRole("region", { name: "Raw content" });
  await expect(form.getByRole("combobox", { name: "Volume" })).toContainText("LANTERN");
  await form.getByRole("combobox", { name: "Volume" }).selectOption({ label: await optionOf(form, "LANTERN") });
  await form.getByRole("checkbox", { name: "Pictures" }).check();
  // The part is typed or dragged; the whole is what is asked for.
  await form.getByRole("spinbutton", { name: "Sweep from percent" }).fill("50");
  await expect(form).toContainText("19.0 MiB to look through");
  await form.getByRole("slider", { name: /begins/ }).focus();
  await page.keyboard.press("Home");
  await expect(form).toContainText("38.0 MiB to look through");
  await form.getByRole("button", { name: "Start the sweep" }).click();
  const pass = page.getByRole("list", { name: "Passes" }).getByRole("listitem").filter({ hasText: "Raw content of LANTERN" });
  await expect(pass).toContainText("finished", { timeout: 30_000 });
  await expect(pass).toContainText(/1\d lost/);
  await pass.getByRole("link", { name: /pictures/ }).click();
  const list = page.getByRole("grid", { name: "Items" });
  await expect(list.getByRole("row").filter({ hasText: "moon 302.jpg" })).toContainText("whole");
  await page.getByRole("button", { name: "Originals only" }).click();
  await list.getByRole("row").filter({ hasText: "moon 302.jpg" }).click();
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  await expect(inspector).toContainText("raw content at");
  await expect(inspector).toContainText("Pixels");
  await page.getByRole("button", { name: "Columns" }).click();
  await page.getByRole("checkbox", { name: "Show Pixels" }).check();
  await page.keyboard.press("Escape");
  await expect(list.getByRole("columnheader", { name: "Pixels" })).toBeVisible();
});

const optionOf = async (form: import("@playwright/test").Locator, word: string) =>
  (await form.getByRole("combobox", { name: "Volume" }).locator("option").allTextContents()).find((text) => text.includes(word)) ?? "";

test("files without any file system are found, and a damaged picture is repaired", async ({ page, request }) => {
  const folder = process.env.COMPASS_SOURCES as string;
  mkdirSync(folder, { recursive: true });
  const path = join(folder, "unlabelled.img");
  writeFileSync(path, fixture("carve.img.gz"));
  await page.goto("/");
  const headers = { origin: new URL(page.url()).origin };
  const { id } = (await (await request.post("/api/jobs", { data: { title: "Unlabelled disk", client: "" }, headers })).json()) as {
    id: number;
  };
  const added = await request.post(`/api/jobs/${id}/sources`, { data: { path }, headers });
  expect(added.ok(), await added.text()).toBe(true);
  await page.goto(`/jobs/${id}/search`);
  const form = page.getByRole("region", { name: "Raw content" });
  await form.getByRole("checkbox", { name: /Every byte/ }).check();
  const began = Date.now();
  await form.getByRole("button", { name: "Start the sweep" }).click();
  const pass = page.getByRole("list", { name: "Passes" }).getByRole("listitem").filter({ hasText: "Raw content" });
  await expect(pass).toContainText("finished", { timeout: 60_000 });
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
