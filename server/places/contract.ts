import { z } from "zod";
import { PLACES, type Place, placesWith } from "../../core/copies/vocabulary";

const naming = z.object({
  pattern: z.string().max(400).nullable(),
  extension: z.union([z.enum(["keep", "content"]), z.object({ when: z.string(), name: z.string() })]),
});

export const storedRule = z.object({
  id: z.string(),
  title: z.string(),
  system: z.enum(["windows", "mac", "any"]),
  place: z.enum(PLACES),
  where: z.array(z.string()),
  reader: z.enum(["file", "windows-bin", "mac-bin", "document-versions", "link", "jump-list", "property-list", "owner"]),
  holds: z.string(),
  naming,
  ties: z.enum(["beside", "by-name", "none"]),
  note: z.string(),
  /** Added on this bench. */
  own: z.boolean(),
  off: z.boolean(),
});
export type StoredRule = z.infer<typeof storedRule>;
export const ruleList = z.array(storedRule);

/** The places a rule of one's own can be for. */
export const OWN_PLACES = placesWith("forOwnRules") as [Place, ...Place[]];

export const newRule = z.object({
  title: z.string().trim().min(3, "Give the rule a name of three letters at least.").max(100),
  system: z.enum(["windows", "mac", "any"]),
  place: z.enum(OWN_PLACES),
  where: z.array(z.string().trim().min(1).max(400)).min(1, "Say where to look: one pattern at least.").max(20),
  pattern: z
    .string()
    .trim()
    .max(400)
    .transform((text) => text || null)
    .nullable()
    .default(null),
  extension: z.enum(["keep", "content"]).default("content"),
  ties: z.enum(["beside", "by-name", "none"]).default("none"),
  note: z.string().trim().max(300).default(""),
});
export type NewRule = z.infer<typeof newRule>;

export const switchRule = z.object({ off: z.boolean() });
