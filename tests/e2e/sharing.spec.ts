import { createHash } from "node:crypto";
import { mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import AxeBuilder from "@axe-core/playwright";
import { type Browser, expect, type Page, test } from "@playwright/test";
import { readRecords } from "../support/read-records";
import { unzipped } from "../support/unzipped";

const sha256 = (bytes: Uint8Array) => createHash("sha256").update(bytes).digest("hex");
const links = (page: Page) => page.getByRole("region", { name: "Links for the client" });

/** A job whose source is a folder with these files, which have been read. */
async function jobWith(page: Page, title: string, files: Readonly<Record<string, string | Buffer>>): Promise<number> {
  const folder = join(process.env.COMPASS_SOURCES as string, title);
  mkdirSync(folder, { recursive: true });
  for (const [name, content] of Object.entries(files)) writeFileSync(join(folder, name), content);
  const post = async (to: string, data: unknown) => (await (await page.request.post(to, { data })).json()) as { id: number };
  const { id } = await post("/api/jobs", { title, client: "Larkfield" });
  await post(`/api/jobs/${id}/sources`, { path: folder });
  await readRecords(page, id);
  return id;
}

/** Makes a link in the handover of a job. */
async function makeLink(page: Page, id: number, scope: RegExp): Promise<{ address: string; password: string }> {
  await page.goto(`/jobs/${id}/handover`);
  await links(page).getByRole("button", { name: "Show" }).click();
  await links(page).getByLabel("It leads to").click();
  await page.getByRole("option", { name: scope }).click();
  await links(page).getByLabel("For whom").fill("Mrs Larkfield");
  await links(page).getByRole("button", { name: "Make a link" }).click();
  const shown = links(page).locator("code");
  await expect(shown).toHaveCount(2);
  const [address, password] = await shown.allTextContents();
  return { address: address as string, password: password as string };
}

/** What axe finds wrong with a page: nothing, as soon as what changes its colour has done so. */
const isAccessible = (page: Page) =>
  expect(async () => {
    const { violations } = await new AxeBuilder({ page }).analyze();
    expect(violations.map(({ id, nodes }) => `${id}: ${nodes.map(({ html }) => html).join(" ")}`)).toEqual([]);
  }).toPass({ timeout: 20_000 });

/** Another computer's browser. */
const elsewhere = async (browser: Browser) => (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();

test("a client is let in by the password, looks, chooses and downloads, by the keyboard alone; the technician takes the choice over", async ({
  page,
  browser,
}) => {
  const files = { "letter.txt": "the letter\n".repeat(300), "list.csv": "a,b\n1,2\n", "notes.txt": "some notes\n" };
  const id = await jobWith(page, "Shared with a client", files);
  const { address, password } = await makeLink(page, id, /what was found/);
  expect(address).not.toContain(`:${process.env.COMPASS_TEST_PORT}/`);
  await expect(links(page)).toContainText("this computer alone");
  await isAccessible(page);

  const client = await elsewhere(browser);
  await client.goto(address);
  const word = client.getByLabel("Password");
  await expect(word).toBeFocused();
  await client.keyboard.type("not the password");
  await client.keyboard.press("Enter");
  await expect(client.getByText("This is not the password.")).toBeVisible();
  await isAccessible(client);
  await word.fill(password);
  await client.keyboard.press("Enter");
  await expect(client.getByRole("heading", { name: "Shared with a client" })).toBeVisible();
  await client.getByRole("button", { name: "All", exact: true }).focus();
  await client.keyboard.press("Enter");
  const rows = client.getByRole("list", { name: "Files" }).getByRole("listitem");
  await expect(rows).toHaveCount(3);

  // What is looked at is shown as the bench shows it.
  await client.getByRole("button", { name: /^letter\.txt/ }).focus();
  await client.keyboard.press("Enter");
  await expect(client.getByRole("complementary", { name: "Preview" })).toContainText("the letter");
  const single = client.waitForEvent("download");
  await client.getByRole("link", { name: "Download this file" }).focus();
  await client.keyboard.press("Enter");
  const one = readFileSync(await (await single).path());
  expect(sha256(one)).toBe(sha256(Buffer.from(files["letter.txt"])));

  for (const name of ["letter.txt", "list.csv"]) {
    await client.getByRole("checkbox", { name: `Choose ${name}` }).focus();
    await client.keyboard.press("Space");
    await expect(client.getByRole("checkbox", { name: `Choose ${name}` })).toBeChecked();
  }
  await expect(client.getByRole("status").filter({ hasText: "2 files chosen" })).toBeVisible();
  await isAccessible(client);
  const all = client.waitForEvent("download");
  await client.getByRole("link", { name: "Download what is chosen (ZIP)" }).focus();
  await client.keyboard.press("Enter");
  const zip = await unzipped(readFileSync(await (await all).path()));
  const found = new Map([...zip].map(([name, bytes]) => [name.split("/").at(-1), sha256(bytes)]));
  for (const name of ["letter.txt", "list.csv"] as const) expect(found.get(name)).toBe(sha256(Buffer.from(files[name])));
  expect([...found.keys()].sort()).toEqual(["Remarks.txt", "letter.txt", "list.csv"]);
  await client.reload();
  await expect(client.getByRole("checkbox", { name: "Choose list.csv" })).toBeChecked();

  await page.reload();
  await links(page).getByRole("button", { name: "Show" }).click();
  await expect(links(page).getByRole("listitem")).toContainText("2 files chosen");
  await links(page).getByRole("button", { name: "Put the chosen ones into the tray" }).click();
  await expect(links(page).getByRole("button", { name: "Put the chosen ones into the tray" })).toHaveCount(0);
  await page.goto(`/jobs/${id}/restore`);
  await page.getByRole("button", { name: "Restore 2 files" }).click();
  await expect(page.getByRole("region", { name: /^Restore \d+$/ })).toContainText("2 of 2 files written, read again and the same");

  // The client has them as they were restored, and the handover.
  await client.getByRole("button", { name: "Restored files" }).click();
  const restored = client.waitForEvent("download");
  await client.getByRole("link", { name: "list.csv" }).click();
  expect(sha256(readFileSync(await (await restored).path()))).toBe(sha256(Buffer.from(files["list.csv"])));
  await client.getByRole("button", { name: "Handover" }).click();
  await expect(client.getByRole("article")).toContainText("Shared with a client");
  const pdf = client.waitForEvent("download");
  await client.getByRole("link", { name: "PDF" }).click();
  expect(
    readFileSync(await (await pdf).path())
      .subarray(0, 5)
      .toString(),
  ).toBe("%PDF-");

  // All of it was noted.
  const report = await (await page.request.get(`/api/jobs/${id}/report?form=json&for=file`)).text();
  for (const what of ["Link shared", "Wrong password for a shared link", "Shared link opened", "Client downloads what was chosen"])
    expect(report).toContain(what);
  expect(report).not.toContain(address.slice(-43));
  expect(report).not.toContain(password);
});

test("nothing else of the bench is reached by the door, and a link that was ended is over at once", async ({ page, browser }) => {
  const id = await jobWith(page, "Shared and ended", { "a.txt": "a\n" });
  const other = await jobWith(page, "Not shared", { "b.txt": "b\n" });
  const { address, password } = await makeLink(page, id, /the handover and the restored files/);
  const begin = new URL(address).origin;
  const client = await elsewhere(browser);
  for (const path of [
    "/",
    `/jobs/${other}/items`,
    `/api/jobs/${other}`,
    "/api/jobs",
    "/api/health",
    "/settings",
    "/shared",
    "/_next/image?url=/icon.svg",
  ])
    expect([path, (await client.request.get(begin + path)).status()]).toEqual([path, 404]);
  // Without a password its parts are not there either.
  const parts = ["items", "choices", "chosen", "handover", "restored"];
  for (const part of parts) expect([part, (await client.request.get(`${address}/${part}`)).status()]).toEqual([part, 401]);
  await client.goto(address);
  await client.getByLabel("Password").fill(password);
  await client.getByRole("button", { name: "Open" }).click();
  await expect(client.getByRole("article")).toBeVisible();
  await expect(client.getByRole("button", { name: "What was found" })).toHaveCount(0);
  // The keys of the bench are not those of a client.
  await client.keyboard.press("Control+k");
  await expect(client.getByRole("dialog")).toHaveCount(0);
  for (const part of ["items", "choices", "chosen", "found/1", "copies/1/text"])
    expect([part, (await client.request.get(`${address}/${part}`)).status()]).toEqual([part, 404]);
  await client.getByRole("button", { name: "Restored files" }).click();
  await expect(client.getByText("No files have been restored yet.")).toBeVisible();

  await links(page).getByRole("button", { name: "End it" }).click();
  await expect(links(page)).toContainText("ended by hand");
  await client.reload();
  await expect(client.getByText("There is nothing at this address, or the link has ended.")).toBeVisible();
  expect((await client.request.get(`${address}/handover`)).status()).toBe(404);
});
