import { readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import { expect, test } from "@playwright/test";

const FIXTURE = join(import.meta.dirname, "../fixtures/volumes/hostile-previews.img.gz");

test("files that try to run something when they are shown do nothing", async ({ page }) => {
  test.setTimeout(120_000);
  const image = join(process.env.COMPASS_SOURCES as string, "hostile.img");
  writeFileSync(image, gunzipSync(readFileSync(FIXTURE)));
  const post = async (path: string, data: unknown) => (await (await page.request.post(path, { data })).json()) as { id: number };
  const { id: job } = await post("/api/jobs", { title: "Hostile files" });
  await post(`/api/jobs/${job}/sources`, { path: image });
  const jobs = async () => ((await (await page.request.get("/api/jobs")).json()) as { title: string }[]).map((each) => each.title).sort();
  const before = await jobs();
  const outside: string[] = [];
  page.on("request", (request) => {
    const url = new URL(request.url());
    if (url.protocol.startsWith("http") && url.hostname !== "127.0.0.1") outside.push(request.url());
  });
  await page.goto(`/jobs/${job}/search`);
  await page.getByRole("button", { name: "Read records" }).click();
  await page.getByText(/finished in/).waitFor({ timeout: 30_000 });
  await page.goto(`/jobs/${job}/items`);
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  for (const [name, shown] of [
    [/evil\.svg/, "<script>"],
    [/evil\.html/, "hostile page"],
    [/evil\.docx/, "hostile document"],
    [/<img src=x/, "hostile name"],
  ] as const) {
    await page.getByRole("row", { name }).click();
    await expect(inspector.locator("pre")).toContainText(shown);
  }
  await page.getByRole("row", { name: /evil\.pdf/ }).click();
  await expect(inspector.getByRole("img", { name: "Page 1" })).toHaveAttribute("data-state", "drawn", { timeout: 20_000 });
  await page.waitForTimeout(500);
  expect(await page.evaluate(() => (window as unknown as { __ran?: boolean }).__ran)).toBeUndefined();
  expect(await inspector.locator("img[src='x'], script, svg[onload], iframe").count()).toBe(0);
  expect(await jobs()).toEqual(before);
  expect(outside).toEqual([]);
  // The content route gives only what players need, never a page or a picture that could run by itself.
  const { items } = (await (await page.request.get(`/api/jobs/${job}/items`)).json()) as { items: { name: string; bestCopyId: number }[] };
  for (const item of items.filter((each) => /svg|html/.test(each.name)))
    expect((await page.request.get(`/api/copies/${item.bestCopyId}/content`)).status()).toBe(415);
});
