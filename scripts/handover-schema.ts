import { writeFileSync } from "node:fs";
import { handoverSchema } from "../server/handover/data";

/** Writes the published form of handovers as data: `npx tsx scripts/handover-schema.ts` after a change of what they hold. */
writeFileSync("docs/handover.schema.json", `${JSON.stringify(handoverSchema(), null, 2)}\n`);
