import { spawnSync } from "node:child_process";
import { createHash } from "node:crypto";
import { mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { expect, test } from "@playwright/test";
import { seeded } from "../../demo/draw";

const sha256 = (bytes: Uint8Array) => createHash("sha256").update(bytes).digest("hex");
const WORDS = "night seeing cloud dome mirror guide plate orbit nebula flat dark bias focus meridian zenith transit".split(" ");

/** A text of some length that no other is like. */
function textOf(seed: number, length: number): Buffer {
  const random = seeded(seed);
  let text = `Log of plate ${seed}\n`;
  while (text.length < length) text += `${WORDS[Math.floor(random() * WORDS.length)]} ${Math.floor(random() * 1e9).toString(36)} `;
  return Buffer.from(text.slice(0, length));
}

test("a packed archive larger than is kept in memory is read, searched, looked into, and gives a file back", async ({ page }) => {
  test.setTimeout(180_000);
  const work = join(process.env.COMPASS_TEST_WORK ?? "", "e2e-packed");
  const [count, size] = [230, 320_000];
  mkdirSync(join(work, "plates"), { recursive: true });
  for (let number = 0; number < count; number += 1)
    writeFileSync(join(work, "plates", `plate ${String(number).padStart(3, "0")}.txt`), textOf(number, size));
  const path = join(process.env.COMPASS_SOURCES as string, "plates 2019.tar.gz");
  const { status } = spawnSync("sh", ["-c", 'tar -cf - -C "$1" plates | gzip -1 > "$2"', "sh", work, path]);
  expect(status).toBe(0);
  rmSync(work, { recursive: true });
  const wanted = textOf(187, size);

  const post = async (to: string, data: unknown) => (await (await page.request.post(to, { data })).json()) as { id: number };
  const { id } = await post("/api/jobs", { title: "Packed plates", client: "" });
  await post(`/api/jobs/${id}/sources`, { path });
  await page.goto(`/jobs/${id}/search`);
  await page.getByRole("button", { name: "Read lightly" }).click();
  await expect(page.getByRole("list", { name: "Passes" }).getByRole("listitem").first()).toContainText("finished in", { timeout: 60_000 });
  await page.goto(`/jobs/${id}/items?show=all&q=plate`);
  await expect(
    page
      .getByText(`${count} of ${count}`)
      .or(page.getByText(new RegExp(`^${count}\\b`)))
      .first(),
  ).toBeVisible();
  await page.goto(`/jobs/${id}/items?show=all&q=${encodeURIComponent("plate 187")}`);
  const row = page.getByRole("grid", { name: "Items" }).getByRole("row").filter({ hasText: "plate 187.txt" });
  await row.click();
  await expect(page.getByRole("complementary", { name: "Inspector" })).toContainText("Log of plate 187", { timeout: 30_000 });
  const chosen = page.waitForResponse((response) => response.request().method() !== "GET" && response.url().includes("/tray"));
  await row.getByRole("checkbox").check();
  await chosen;
  await page.goto(`/jobs/${id}/restore`);
  await page.getByRole("button", { name: /^Restore \d/ }).click();
  await expect(page.getByText("read again and the same")).toBeVisible({ timeout: 60_000 });
  const written = readdirSync(join(process.env.COMPASS_TEST_WORK ?? "", "e2e-delivery"), { recursive: true, withFileTypes: true }).find(
    ({ name }) => name === "plate 187.txt",
  );
  expect(sha256(readFileSync(join(written?.parentPath ?? "", written?.name ?? "")))).toBe(sha256(wanted));
});
