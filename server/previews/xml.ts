import { walkXml } from "../../core/bytes/xml";

/** Elements that end a line: paragraphs and headings of OpenDocument (1.3, part 3, 5.1) and of drawings (ECMA-376, part 1, 21.1.2.2.6). */
const LINES: ReadonlySet<string> = new Set(["p", "h"]);

/** The words of an XML text, at most about so many characters: a paragraph's end becomes a line's end. */
export function xmlWords(xml: string, most: number): string {
  const words: string[] = [];
  let length = 0;
  const say = (text: string) => {
    words.push(text);
    length += text.length;
  };
  walkXml(xml, {
    // White space of OpenDocument (1.3, part 3, 6.1).
    open: (name, attribute) => {
      if (name === "tab") say("\t");
      else if (name === "line-break" || name === "br") say("\n");
      else if (name === "s") say(" ".repeat(Math.min(1000, Number(attribute("c") ?? 1) || 1)));
    },
    close: (name) => {
      if (LINES.has(name)) say("\n");
    },
    text: say,
    enough: () => length > most,
  });
  return words.join("").trim();
}
