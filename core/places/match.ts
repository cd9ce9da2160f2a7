import picomatch from "picomatch";
import type { PlaceRule } from "./rule";

const OPTIONS = { nocase: true, dot: true, nonegate: true, strictSlashes: true } as const;

/** A rule of one's own must be readable as a pattern at all. @throws Error that says what is wrong with it */
export function checkPatterns(where: readonly string[], pattern?: string): void {
  for (const glob of where) {
    if (glob.length > 400 || /(\*\*[^/*]*){6}/.test(glob)) throw new Error(`The pattern “${glob.slice(0, 60)}” is too long or too wide.`);
    picomatch.makeRe(glob, OPTIONS);
  }
  if (pattern === undefined) return;
  new RegExp(pattern, "iu");
  // A repetition within a repetition can take longer than anybody waits, for a name of a few dozen letters.
  if (/\((?:[^()\\]|\\.)*[+*}](?:[^()\\]|\\.)*\)(?:[+*]|\{\d+,\})/.test(pattern))
    throw new Error("It repeats something that is repeated already, which can take for ever: say it in a simpler way.");
}

/** Finds the rule a path belongs to: the first that fits. Paths are as records have them, with "/" first. */
export class RuleMatcher {
  readonly #any: RegExp | null;
  readonly #rules: { rule: PlaceRule; fits: RegExp }[];

  constructor(rules: readonly PlaceRule[]) {
    const source = (rule: PlaceRule) => rule.where.map((glob) => `(?:${picomatch.makeRe(glob, OPTIONS).source})`).join("|");
    this.#rules = rules.map((rule) => ({ rule, fits: new RegExp(source(rule), "i") }));
    // One look decides nearly every path: almost none is in a known place.
    this.#any = rules.length > 0 ? new RegExp(rules.map(source).join("|"), "i") : null;
  }

  ruleOf(path: string): PlaceRule | null {
    const below = path.slice(1);
    if (!this.#any?.test(below)) return null;
    return this.#rules.find(({ fits }) => fits.test(below))?.rule ?? null;
  }
}
