import type { Locator } from "@playwright/test";

/** Ticks the item of a row, and waits until the choice has been answered: going away at once would take it back before it is sent. */
export async function chooseRow(row: Locator): Promise<void> {
  const chosen = row.page().waitForResponse((response) => response.request().method() !== "GET" && response.url().includes("/tray"));
  await row.getByRole("checkbox").check();
  await chosen;
}
