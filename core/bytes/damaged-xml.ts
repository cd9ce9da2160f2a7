/** What is done at each part of a damaged XML text. Names come without their prefix. */
export interface DamagedXmlWalk {
  open(name: string, attributes: readonly (readonly [name: string, value: string])[]): void;
  /** An element ends; `whole` says whether its own end tag was found. */
  close(name: string, whole: boolean): void;
  text(words: string): void;
  /** What was said of the innermost open element so far is damaged. */
  damage(): void;
  enough(): boolean;
}

/** Elements open at once. */
const MOST_OPEN = 2_000;
/** A stretch of words as they are, what is passed over (instructions, the document's type), a tag, or words (XML 1.0, 2.4, 2.6, 2.7, 2.8, 3.1). */
const PART =
  /<!\[CDATA\[([^<]{0,100000}?)\]\]>|<[?!][^<>]{0,10000}>|<(\/?)([\p{L}_][\p{L}\p{N}_:.-]{0,200})((?:[ \t\r\n]+[^<>=\s"']{1,200}[ \t\r\n]*=[ \t\r\n]*(?:"[^"<]*"|'[^'<]*'))*)[ \t\r\n]*(\/?)>|[^<]+|</gu;
const ATTRIBUTE = /([^=\s"']+)[ \t\r\n]*=[ \t\r\n]*(?:"([^"]*)"|'([^']*)')/g;
/** Characters no XML text has (2.2). */
const FOREIGN = /[^\t\n\r\u0020-\ud7ff\ue000-\ufffc\u{10000}-\u{10ffff}]/u;
/** The same without what stands for bytes that are no text. */
const CONTROL = /[^\t\n\r\u0020-\uffff]/;

/** Whether characters stand in a text that no XML text has: a parser may pass them by, but they were not written as such. */
export const hasForeignCharacters = (xml: string): boolean => CONTROL.test(xml);

const ENTITY = /&(?:#(\d{1,7})|#x([0-9a-fA-F]{1,6})|(amp|lt|gt|quot|apos));/g;
const NAMED: Readonly<Record<string, string>> = { amp: "&", lt: "<", gt: ">", quot: '"', apos: "'" };

const decode = (text: string): string =>
  text.replace(ENTITY, (all, decimal?: string, hex?: string, named?: string) => {
    if (named) return NAMED[named] as string;
    const code = decimal ? Number(decimal) : Number.parseInt(hex as string, 16);
    return code > 0 && code <= 0x10ffff ? String.fromCodePoint(code) : all;
  });

const local = (name: string) => name.slice(name.indexOf(":") + 1);

/** Takes remarks out (2.5), each from its mark to the next end of one: looked for once, however many marks there are. */
function withoutRemarks(xml: string): string {
  let text = "";
  let from = 0;
  for (let at = xml.indexOf("<!--"); at >= 0; at = xml.indexOf("<!--", from)) {
    const end = xml.indexOf("-->", at + 4);
    if (end < 0) break;
    text += xml.slice(from, at);
    from = end + 3;
  }
  return text + xml.slice(from);
}

/**
 * Walks what is left of an XML text that is cut off, or of which a part was written over. Whatever is no tag and no words is passed by; an end
 * tag ends the nearest open element of its name, one that belongs to none ends nothing.
 */
export function walkDamagedXml(xml: string, walk: DamagedXmlWalk): void {
  const open: string[] = [];
  for (const [part, kept, closing, name, attributes, empty] of withoutRemarks(xml).matchAll(PART)) {
    if (walk.enough()) return;
    if (kept !== undefined) {
      walk.text(kept);
      continue;
    }
    if (name === undefined) {
      // A mark that begins no tag, or characters that no text has: what stands around them was written over.
      if (part === "<" || FOREIGN.test(part)) walk.damage();
      else if (!part.startsWith("<")) walk.text(decode(part));
      continue;
    }
    if (closing) {
      const last = open.lastIndexOf(name);
      if (last < 0) walk.damage();
      else
        while (open.length > last) {
          const ended = open.pop() as string;
          walk.close(local(ended), open.length === last);
        }
      continue;
    }
    if (open.length >= MOST_OPEN) continue;
    open.push(name);
    walk.open(
      local(name),
      [...(attributes ?? "").matchAll(ATTRIBUTE)].map(([, each = "", double, single]) => [local(each), decode(double ?? single ?? "")]),
    );
    if (empty) {
      open.pop();
      walk.close(local(name), true);
    }
  }
}
