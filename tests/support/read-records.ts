import { expect, type Page } from "@playwright/test";

/** Reads the file records of all that is in a job, by the button, until every pass is finished. */
export async function readRecords(page: Page, jobId: number): Promise<void> {
  await page.goto(`/jobs/${jobId}/search`);
  await page
    .getByRole("button", { name: /^Read (the )?records/ })
    .first()
    .click();
  const passes = page.getByRole("list", { name: "Passes" }).getByRole("listitem");
  await expect(passes.filter({ hasText: "finished" }).first()).toBeVisible({ timeout: 30_000 });
  await expect(passes.filter({ hasText: /waiting|reading/ })).toHaveCount(0, { timeout: 30_000 });
}
