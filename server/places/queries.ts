import type { PlaceRule } from "../../core/places/rule";
import { SHIPPED_RULES } from "../../core/places/rules";
import type { Connection } from "../database/connection";
import { placeRules } from "../database/schema";
import type { StoredRule } from "./contract";

/** All rules of known places, those of this bench after the shipped ones. */
export async function listRules(db: Connection): Promise<StoredRule[]> {
  const rows = await db.select().from(placeRules).orderBy(placeRules.id);
  const off = new Set(rows.filter((row) => row.off).map((row) => row.id));
  const all = (rule: PlaceRule, own: boolean): StoredRule => ({
    ...rule,
    where: [...rule.where],
    naming: { pattern: rule.naming.pattern ?? null, extension: rule.naming.extension },
    own,
    off: off.has(rule.id),
  });
  return [...SHIPPED_RULES.map((rule) => all(rule, false)), ...rows.flatMap((row) => (row.rule ? [all(row.rule, true)] : []))];
}

/** The rules that are switched on; one's own before the shipped ones, so that they decide. */
export async function activeRules(db: Connection): Promise<PlaceRule[]> {
  const rules = (await listRules(db)).filter((rule) => !rule.off);
  return [...rules.filter((rule) => rule.own), ...rules.filter((rule) => !rule.own)].map(
    ({ own: _, off: __, naming, ...rule }): PlaceRule => ({
      ...rule,
      naming: naming.pattern === null ? { extension: naming.extension } : { pattern: naming.pattern, extension: naming.extension },
    }),
  );
}
