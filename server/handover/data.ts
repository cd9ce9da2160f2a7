import { z } from "zod";
import { account } from "../accounts/contract";
import { jobSummary } from "../jobs/contract";
import { logEntry } from "../log/contract";
import { pass } from "../passes/contract";
import { plan } from "../plan/contract";
import { restore, result } from "../restores/contract";
import { source, volume } from "../sources/contract";

/** By these two a program knows what it reads; the version counts changes that break readers. */
export const FORMAT = "recovery-handover";
export const FORMAT_VERSION = 1;

/** The facts of a handover, without its restores. What only the drawing of a chart needs is left out. */
export const handoverFacts = z.object({
  format: z.literal(FORMAT),
  version: z.literal(FORMAT_VERSION),
  /** What wrote it, and the rules of known places it went by: how many, and a hash over them. */
  program: z.object({ name: z.string(), version: z.string(), rules: z.number(), rulesSha256: z.string() }),
  now: z.coerce.date(),
  job: jobSummary,
  accounts: z.array(account),
  plan,
  sources: z.array(source.extend({ volumes: z.array(volume.omit({ usage: true })) })),
  passes: z.array(pass),
  log: z.array(logEntry),
  /** The hash of the log's last entry; null: it has none. */
  logHash: z.string().nullable(),
});
export const handoverRestore = restore;
export const handoverResult = result;

/** All of a handover as another program reads it. */
export const handoverData = handoverFacts.extend({ restores: z.array(restore.extend({ results: z.array(result) })) });

/** The published form of it: a JSON Schema (draft 2020-12), times as ISO 8601. */
export const handoverSchema = (): object =>
  z.toJSONSchema(handoverData, {
    unrepresentable: "any",
    override: ({ zodSchema, jsonSchema }) => {
      if (zodSchema._zod.def.type !== "date") return;
      jsonSchema.type = "string";
      jsonSchema.format = "date-time";
    },
  });
