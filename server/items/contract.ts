import { z } from "zod";
import { KINDS } from "../../core/formats/format";

export const itemQuery = z.object({
  q: z.string().max(300).default(""),
  show: z.enum(["lost", "all"]).default("lost"),
  kind: z.enum(KINDS).optional(),
  after: z.string().max(2000).optional(),
  limit: z.coerce.number().int().min(1).max(1000).default(300),
});
export type ItemQuery = z.infer<typeof itemQuery>;

export const CONDITION_WORDS = ["whole", "partial", "name-only", "not-checked"] as const;

export const item = z.object({
  id: z.number(),
  name: z.string(),
  folder: z.string(),
  kind: z.string(),
  lost: z.boolean(),
  copies: z.number(),
  bestCopyId: z.number(),
  size: z.number(),
  modified: z.coerce.date().nullable(),
  condition: z.enum(CONDITION_WORDS),
  survival: z.number(),
  inTray: z.boolean(),
});
export type Item = z.infer<typeof item>;
export const itemPage = z.object({ items: z.array(item), next: z.string().nullable() });
export type ItemPage = z.infer<typeof itemPage>;

export const facets = z.object({
  total: z.number(),
  matching: z.number(),
  kinds: z.array(z.object({ kind: z.string(), count: z.number() })),
});
export type Facets = z.infer<typeof facets>;

const finding = z.looseObject({ finding: z.string() });

export const copy = z.object({
  id: z.number(),
  place: z.string(),
  state: z.enum(["live", "deleted"]),
  reference: z.string(),
  size: z.number(),
  created: z.coerce.date().nullable(),
  modified: z.coerce.date().nullable(),
  changed: z.coerce.date().nullable(),
  condition: z.enum(CONDITION_WORDS),
  survival: z.number(),
  evidence: z.object({
    usedByOthers: z.number(),
    takenLater: z.number(),
    lost: z.number(),
    unreadable: z.number(),
    content: finding.nullable(),
  }),
  runs: z.array(z.object({ at: z.number(), length: z.number() })),
  notes: z.array(z.string()),
  best: z.boolean(),
  sourceId: z.number(),
});
export type Copy = z.infer<typeof copy>;
export const itemDetail = item.extend({ volumeLabel: z.string(), sourceName: z.string(), reason: z.string(), list: z.array(copy) });
export type ItemDetail = z.infer<typeof itemDetail>;

export const textPreview = z.object({ text: z.string(), encoding: z.string(), truncated: z.boolean() });
export const PREVIEW_FORMS = ["picture", "text", "document", "hex"] as const;
export type PreviewForm = (typeof PREVIEW_FORMS)[number];
