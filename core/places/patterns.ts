import { RE2JS } from "re2js";

/**
 * Patterns over paths and names of a client's disk. They are run by an engine whose time grows with the length of the text alone and that
 * never goes back over it, so that neither a rule nor a name can hold up a pass.
 */
export interface Pattern {
  test(text: string): boolean;
  /** The named groups of a match; {} when it does not match. */
  groups(text: string): Readonly<Record<string, string | undefined>>;
}

/** Braces within braces of a glob at most. */
const MAX_DEPTH = 4;
const MAX_GLOB = 400;

/** Compiles a regular expression (RE2 syntax: no lookaround, no references back). @throws Error that says what is wrong with it */
export function compilePattern(source: string): Pattern {
  const compiled = RE2JS.compile(source, RE2JS.CASE_INSENSITIVE);
  const names = Object.keys(compiled.namedGroups());
  return {
    test: (text) => compiled.test(text),
    groups: (text) => {
      const matcher = compiled.matcher(text);
      if (names.length === 0 || !matcher.find()) return {};
      return Object.fromEntries(names.map((name) => [name, matcher.group(name) ?? undefined]));
    },
  };
}

/** Compiles globs below one root into one pattern; capitals do not matter. @throws Error that says what is wrong with them */
export function compileGlobs(globs: readonly string[]): Pattern {
  return compilePattern(`^(?:${globs.map(globSource).join("|")})$`);
}

/**
 * A glob as a regular expression: `**` stands for any folders, `*` and `?` for characters of one name, `[a-z]` and `[!a-z]` for one of
 * them, `{a,b}` for one of several.
 */
function globSource(glob: string): string {
  if (glob.length > MAX_GLOB) throw new Error(`The pattern “${glob.slice(0, 60)}” is too long.`);
  let source = "";
  let depth = 0;
  for (let at = 0; at < glob.length; at += 1) {
    const mark = glob[at] as string;
    const begins = at === 0 || glob[at - 1] === "/" || ((glob[at - 1] === "{" || glob[at - 1] === ",") && depth > 0);
    if (mark === "*" && glob[at + 1] === "*" && begins && (glob[at + 2] === "/" || at + 2 === glob.length)) {
      const last = at + 2 === glob.length;
      // What is below a folder is meant, and not the folder itself.
      source += last ? "[^/].*" : "(?:[^/]+/)*";
      at += last ? 1 : 2;
    } else if (mark === "*") {
      while (glob[at + 1] === "*") at += 1;
      // A name has one character at least.
      const alone = begins && (glob[at + 1] === "/" || at + 1 === glob.length);
      source += alone ? "[^/]+" : "[^/]*";
    } else if (mark === "?") source += "[^/]";
    else if (mark === "[") {
      const end = glob.indexOf("]", at + 2);
      if (end < 0) throw new Error("A bracket in the pattern is not closed.");
      const negated = glob[at + 1] === "!" || glob[at + 1] === "^";
      const inside = glob.slice(at + (negated ? 2 : 1), end).replace(/[\\[\]^]/g, "\\$&");
      source += negated ? `[^/${inside}]` : `[${inside}]`;
      at = end;
    } else if (mark === "{") {
      depth += 1;
      if (depth > MAX_DEPTH) throw new Error("Braces in the pattern are nested too deep.");
      source += "(?:";
    } else if (mark === "}" && depth > 0) {
      depth -= 1;
      source += ")";
    } else if (mark === "," && depth > 0) source += "|";
    else if (mark === "\\" && at + 1 < glob.length) {
      at += 1;
      source += RE2JS.quote(glob[at] as string);
    } else source += RE2JS.quote(mark);
  }
  if (depth > 0) throw new Error("A brace in the pattern is not closed.");
  return source;
}
