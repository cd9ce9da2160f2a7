import { z } from "zod";
import { CONDITIONS } from "../../core/copies/vocabulary";

/** What a link leads to: what was found, to choose from; or the handover with the restored files alone. */
export const SHARE_SCOPES = ["job", "handover"] as const;
export type ShareScope = (typeof SHARE_SCOPES)[number];

/** Fewest characters of a password that is chosen by hand. */
export const SHORTEST_PASSWORD = 10;
const LONGEST_PASSWORD = 200;
/** Days a link may last. */
export const LONGEST_SHARE_DAYS = 90;

export const newShare = z.object({
  scope: z.enum(SHARE_SCOPES),
  label: z.string().trim().max(200).default(""),
  days: z.number().int().min(1, "A link lasts at least a day.").max(LONGEST_SHARE_DAYS, `A link lasts ${LONGEST_SHARE_DAYS} days at most.`),
  /** Empty: one is made. */
  password: z
    .string()
    .max(LONGEST_PASSWORD, `A password has ${LONGEST_PASSWORD} characters at most.`)
    .refine((word) => word === "" || [...word].length >= SHORTEST_PASSWORD, {
      message: `A password has ${SHORTEST_PASSWORD} characters at least; leave it empty and one is made.`,
    })
    .default(""),
});
export type NewShare = z.infer<typeof newShare>;

/** What is said once, when a link is made: neither is kept. */
export const madeShare = z.object({ id: z.number(), address: z.string(), password: z.string() });
export type MadeShare = z.infer<typeof madeShare>;

export const share = z.object({
  id: z.number(),
  scope: z.enum(SHARE_SCOPES),
  label: z.string(),
  createdAt: z.coerce.date(),
  endsAt: z.coerce.date(),
  /** "ended" by its date, "revoked" by hand. */
  state: z.enum(["open", "ended", "revoked"]),
  lastOpenedAt: z.coerce.date().nullable(),
  /** Wrong passwords since the last right one. */
  tries: z.number(),
  /** Files the client chose, and how many of them are not in the tray. */
  chosen: z.number(),
  waiting: z.number(),
});
export type Share = z.infer<typeof share>;

export const shareList = z.object({
  shares: z.array(share),
  /** How links begin; null: sharing is not switched on. */
  address: z.string().nullable(),
  /** Whether what goes over a link is encrypted on its way. */
  encrypted: z.boolean(),
  /** Whether links lead to this computer alone. */
  local: z.boolean(),
});
export type ShareList = z.infer<typeof shareList>;

export const shareChange = z.object({ what: z.enum(["revoke", "take"]) });

// From here on: what a client is shown.

export const enterShare = z.object({ password: z.string().max(LONGEST_PASSWORD) });

/** What a shared page says of its job. */
export interface SharedJob {
  readonly title: string;
  readonly client: string;
  readonly technician: string;
  readonly firm: string;
  readonly timeZone: string;
  readonly scope: ShareScope;
  /** ISO 8601. */
  readonly endsAt: string;
}

export const sharedItem = z.object({
  id: z.number(),
  copyId: z.number(),
  name: z.string(),
  folder: z.string(),
  kind: z.string(),
  size: z.number(),
  modified: z.coerce.date().nullable(),
  condition: z.enum(CONDITIONS),
  survival: z.number(),
  live: z.boolean(),
  opens: z.enum(["yes", "no", "unknown"]).nullable(),
  chosen: z.boolean(),
});
export type SharedItem = z.infer<typeof sharedItem>;
export const sharedPage = z.object({ items: z.array(sharedItem), next: z.string().nullable() });
export type SharedPage = z.infer<typeof sharedPage>;

export const sharedQuery = z.object({
  q: z.string().max(300).default(""),
  show: z.enum(["lost", "all", "chosen"]).default("lost"),
  after: z.string().max(2000).optional(),
});

/** Files and bytes of what a client chose. */
export const choiceSums = z.object({ files: z.number(), bytes: z.number() });
/** Files that may be chosen or taken out at once. */
const MOST_AT_ONCE = 1000;
export const choose = z.object({ copies: z.array(z.number().int().positive()).min(1).max(MOST_AT_ONCE), chosen: z.boolean() });

/** A file that was restored and stands as it was written. */
export const sharedFile = z.object({ id: z.number(), name: z.string(), size: z.number(), state: z.enum(["verified", "gaps", "same"]) });
export const sharedRestores = z.array(
  z.object({
    id: z.number(),
    title: z.string(),
    finishedAt: z.coerce.date().nullable(),
    files: z.number(),
    bytes: z.number(),
  }),
);
export const sharedFiles = z.object({ files: z.array(sharedFile), next: z.number().nullable() });
