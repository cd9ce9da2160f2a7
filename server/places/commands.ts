import { randomUUID } from "node:crypto";
import { eq } from "drizzle-orm";
import { checkPatterns } from "../../core/places/match";
import type { PlaceRule } from "../../core/places/rule";
import { SHIPPED_RULES } from "../../core/places/rules";
import type { Database } from "../database/connection";
import { placeRules } from "../database/schema";
import { Problem } from "../problem";
import type { NewRule } from "./contract";

/** Adds a rule of one's own. @returns its id */
export async function addRule(db: Database, { title, system, place, where, pattern, extension, ties, note }: NewRule): Promise<string> {
  try {
    checkPatterns(where, pattern ?? undefined);
  } catch (error) {
    throw new Problem(`The patterns cannot be read: ${(error as Error).message}`);
  }
  const id = `own-${randomUUID()}`;
  const rule: PlaceRule = {
    id,
    title,
    system,
    place,
    where,
    reader: "file",
    holds: "Added on this bench.",
    naming: pattern === null ? { extension } : { pattern, extension },
    ties,
    note: note || `Found by the bench’s own rule “${title}”.`,
  };
  await db.insert(placeRules).values({ id, rule });
  return id;
}

/** Switches a rule off or on. Passes that run already go on as they began. */
export async function switchRule(db: Database, id: string, off: boolean): Promise<void> {
  const shipped = SHIPPED_RULES.some((rule) => rule.id === id);
  const [own] = await db.select({ id: placeRules.id }).from(placeRules).where(eq(placeRules.id, id));
  if (!shipped && !own) throw new Problem("There is no such rule.", 404);
  await db.insert(placeRules).values({ id, off, rule: null }).onConflictDoUpdate({ target: placeRules.id, set: { off } });
}

/** Removes a rule of one's own. @throws Problem for a shipped one, which can only be switched off */
export async function removeRule(db: Database, id: string): Promise<void> {
  if (SHIPPED_RULES.some((rule) => rule.id === id)) throw new Problem("A shipped rule cannot be removed; it can be switched off.", 409);
  await db.delete(placeRules).where(eq(placeRules.id, id));
}
