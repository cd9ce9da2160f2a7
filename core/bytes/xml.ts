import { Parser } from "saxen";

/** What is done at each part of an XML text, in its order. Names come without their prefix. */
export interface XmlWalk {
  open?(
    name: string,
    attribute: (name: string) => string | undefined,
    all: () => readonly (readonly [name: string, value: string])[],
  ): void;
  close?(name: string): void;
  text?(words: string): void;
  /** Whether enough was read. */
  enough?(): boolean;
}

/** Deeper elements are damage, or made to be. */
const MOST_DEPTH = 2000;

/**
 * Walks an XML text with a parser (XML 1.0). Entities of the text's own are not expanded; what stands behind the first fault is not read.
 * @returns what ended it before its end, in words; null: nothing did
 */
export function walkXml(xml: string, walk: XmlWalk): string | null {
  const parser = new Parser();
  let problem: string | null = null;
  let depth = 0;
  const stop = (why: string | null) => {
    problem = why;
    parser.stop();
  };
  const local = (name: string) => name.slice(name.indexOf(":") + 1);
  parser.on("openTag", (name, attributes, decode) => {
    depth += 1;
    if (depth > MOST_DEPTH) return stop("its elements are nested too deep");
    const all = () => {
      const found = attributes();
      return typeof found === "boolean" ? {} : found;
    };
    walk.open?.(
      local(name),
      (wanted) => {
        const found = Object.keys(all()).find((each) => local(each) === wanted);
        return found === undefined ? undefined : decode(all()[found] as string);
      },
      () => Object.entries(all()).map(([each, value]) => [local(each), decode(String(value))] as const),
    );
    if (walk.enough?.()) stop(null);
  });
  parser.on("closeTag", (name) => {
    depth -= 1;
    walk.close?.(local(name));
    if (walk.enough?.()) stop(null);
  });
  parser.on("text", (words, decode) => walk.text?.(decode(words)));
  parser.on("cdata", (words) => walk.text?.(words));
  parser.on("error", (error) => stop(error.message));
  parser.parse(xml);
  return problem;
}
