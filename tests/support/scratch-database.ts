import { randomBytes } from "node:crypto";
import { ensureDatabase } from "../../scripts/cluster";
import { migrateDatabase } from "../../server/database/migrate";

/** The test cluster's address, as the test command hands it over. */
function clusterAddress(): string {
  const address = process.env.COMPASS_TEST_DATABASE;
  if (!address) throw new Error("COMPASS_TEST_DATABASE is not set: run these tests through `npm test`.");
  return address;
}

/** A new database without any table, in the test cluster. @returns its address */
export async function emptyDatabase(): Promise<string> {
  const name = `test_${randomBytes(6).toString("hex")}`;
  await ensureDatabase(`${clusterAddress()}postgres`, name);
  return `${clusterAddress()}${name}`;
}

/** A new database with all tables, in the test cluster. @returns its address */
export async function scratchDatabase(): Promise<string> {
  const url = await emptyDatabase();
  await migrateDatabase(url);
  return url;
}
