import { compileGlobs, compilePattern, type Pattern } from "./patterns";
import type { PlaceRule } from "./rule";

/** A rule of one's own must be readable as a pattern at all. @throws Error that says what is wrong with it */
export function checkPatterns(where: readonly string[], pattern?: string): void {
  compileGlobs(where);
  if (pattern !== undefined) compilePattern(pattern);
}

/** Finds the rule a path belongs to: the first that fits. Paths are as records have them, with "/" first. */
export class RuleMatcher {
  readonly #any: Pattern | null;
  readonly #rules: { rule: PlaceRule; fits: Pattern }[];

  constructor(rules: readonly PlaceRule[]) {
    this.#rules = rules.map((rule) => ({ rule, fits: globsOf(rule) }));
    // One look decides nearly every path: almost none is in a known place.
    this.#any = rules.length > 0 ? compileGlobs(rules.flatMap((rule) => rule.where)) : null;
  }

  ruleOf(path: string): PlaceRule | null {
    const below = path.slice(1);
    if (!this.#any?.test(below)) return null;
    return this.#rules.find(({ fits }) => fits.test(below))?.rule ?? null;
  }
}

/** @throws Error that names the rule whose patterns cannot be read: one that was added before they were compiled this way, for instance */
function globsOf({ title, where, naming }: PlaceRule): Pattern {
  try {
    if (naming.pattern !== undefined) compilePattern(naming.pattern);
    return compileGlobs(where);
  } catch (error) {
    throw new Error(`The rule “${title}” cannot be read: ${(error as Error).message} Switch it off, or add it anew.`);
  }
}

const compiled = new Map<string, Pattern>();

/**
 * The parts of a copy's found name, by the names the rule's pattern gives them; {} where it has none or does not fit.
 * @throws Error when the pattern cannot be read, which `RuleMatcher` has looked at
 */
export function nameParts(found: string, pattern: string | undefined): Readonly<Record<string, string | undefined>> {
  if (pattern === undefined) return {};
  let known = compiled.get(pattern);
  if (!known) {
    known = compilePattern(pattern);
    compiled.set(pattern, known);
  }
  return known.groups(found);
}
