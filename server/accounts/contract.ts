import { z } from "zod";
import { CAUSES, DRIVES, EMPTY_ACCOUNT, LOST_KINDS, paragraph, SYSTEMS, USED_SINCE } from "../../core/plan/account";

export { CAUSES, DRIVES, EMPTY_ACCOUNT, LOST_KINDS, paragraph, SYSTEMS, USED_SINCE };

/** Accounts in one job at most. */
export const MOST_ACCOUNTS = 12;

const blank = (longest: number) =>
  z
    .string()
    .trim()
    .max(longest)
    .transform((text) => text || null)
    .nullable()
    .default(null);
const keysOf = <K extends string>(table: Record<K, string>) => Object.keys(table) as [K, ...K[]];
const oneOf = <K extends string>(table: Record<K, string>) => z.enum(keysOf(table)).nullable().default(null);
const moment = z
  .object({ text: z.string().trim().min(1).max(100), from: z.number().nullable().default(null), to: z.number().nullable().default(null) })
  .nullable()
  .default(null);

export const account = z.object({
  kinds: z
    .array(z.enum(keysOf(LOST_KINDS)))
    .max(9)
    .default([]),
  nameHint: blank(200),
  extension: blank(20),
  contained: blank(500),
  count: z.number().int().min(1).max(100_000_000).nullable().default(null),
  system: oneOf(SYSTEMS),
  drive: oneOf(DRIVES),
  folder: blank(500),
  userName: blank(100),
  lastSeen: moment,
  lastSaved: moment,
  lost: moment,
  cause: oneOf(CAUSES),
  tried: blank(1000),
  usedSince: oneOf(USED_SINCE),
});
export type Account = z.infer<typeof account>;

/** The accounts of a job, a sentence a loss. */
export const accountList = z.array(account).min(1).max(MOST_ACCOUNTS);

/** What the accounts said before, the latest first. */
export const accountHistory = z.array(z.object({ at: z.coerce.date(), sentences: z.array(z.string()) }));
