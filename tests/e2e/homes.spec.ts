import { mkdirSync, utimesSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { expect, test } from "@playwright/test";

const LETTER = "Users/anna/Documents/Letter to the observatory.txt";

test("a backup of the client's drive gathers with it, is parted from it, and joined again by hand", async ({ page }) => {
  const sources = process.env.COMPASS_SOURCES as string;
  const write = (path: string, content: string, at: number) => {
    mkdirSync(join(sources, path, ".."), { recursive: true });
    writeFileSync(join(sources, path), content);
    utimesSync(join(sources, path), at, at);
  };
  write(`Anna’s laptop/${LETTER}`, "as it is", 1_700_000_000);
  write(`Copies of anna/Copies/C/${LETTER}`, "as it was", 1_600_000_000);
  write("Copies of anna/Copies/C/Users/anna/Documents/Sold telescope.txt", "gone from the laptop", 1_600_000_000);
  const post = async (to: string, data: unknown) => (await (await page.request.post(to, { data })).json()) as { id: number };
  const { id } = await post("/api/jobs", { title: "Laptop and shelf", client: "" });
  for (const name of ["Anna’s laptop", "Copies of anna"]) await post(`/api/jobs/${id}/sources`, { path: join(sources, name) });
  await page.goto(`/jobs/${id}/search`);
  await page.getByRole("button", { name: "Read the records of all 2 volumes" }).click();
  const passes = page.getByRole("list", { name: "Passes" }).getByRole("listitem");
  await expect(passes.filter({ hasText: "finished" })).toHaveCount(2, { timeout: 30_000 });

  const tree = page.getByRole("tree", { name: "Sources and volumes" });
  const drives = page.getByRole("region", { name: "The client’s drives" });
  await page.goto(`/jobs/${id}/sources`);
  await tree.getByRole("treeitem", { name: /Copies of anna/ }).click();
  await expect(drives.getByText("It holds folders of anna, who is on Anna’s laptop too.")).toBeVisible();
  await drives.getByRole("button", { name: "Gather it with Anna’s laptop" }).click();
  await expect(drives.getByRole("row", { name: /Copies of anna, Copies\/C Anna’s laptop/ })).toContainText(
    "Anna’s laptop of Anna’s laptop",
  );

  const items = page.getByRole("grid", { name: "Items" });
  const letters = items.getByRole("row").filter({ hasText: "Letter to the observatory.txt" });
  await page.goto(`/jobs/${id}/items?show=all`);
  await expect(letters).toHaveCount(1);
  await letters.first().click();
  const inspector = page.getByRole("complementary", { name: "Inspector" });
  await expect(inspector).toContainText("2 copies");
  await expect(items.getByRole("row").filter({ hasText: "Sold telescope.txt" })).toBeVisible();

  await page.goto(`/jobs/${id}/sources`);
  await tree.getByRole("treeitem", { name: /Copies of anna/ }).click();
  await drives.getByRole("button", { name: "Part" }).click();
  await expect(drives.getByRole("button", { name: "Part" })).toHaveCount(0);
  await page.goto(`/jobs/${id}/items?show=all`);
  await expect(letters).toHaveCount(2);
  // By which drive they stood on the list can be narrowed.
  await page
    .getByRole("region", { name: "Client’s drive" })
    .getByRole("button", { name: /Copies of anna/ })
    .click();
  await expect(letters).toHaveCount(1);

  await page.goto(`/jobs/${id}/sources`);
  await tree.getByRole("treeitem", { name: /Copies of anna/ }).click();
  const form = drives.getByRole("form", { name: "Gather with another drive" });
  await form.getByRole("textbox", { name: "Folder here" }).fill("Copies/C");
  await form.getByRole("combobox", { name: "is the drive" }).click();
  await page.getByRole("option", { name: "Anna’s laptop" }).click();
  await form.getByRole("button", { name: "Gather" }).click();
  await expect(drives.getByRole("row", { name: /Copies of anna, Copies\/C Anna’s laptop/ })).toContainText("Joined by hand.");
  await drives
    .getByRole("row", { name: /Copies of anna, Copies/ })
    .getByRole("button", { name: "Rename" })
    .click();
  await drives.getByRole("textbox", { name: "What the client calls this drive" }).fill("Laptop, C:");
  await drives.getByRole("button", { name: "Keep the name" }).click();
  await expect(drives.getByRole("row", { name: /Copies of anna, Copies\/C Laptop, C:/ })).toBeVisible();
  await page.goto(`/jobs/${id}/items?show=all`);
  await expect(letters).toHaveCount(1);
});
