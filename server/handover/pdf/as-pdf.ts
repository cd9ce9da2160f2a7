import type { Readable } from "node:stream";
import { setImmediate } from "node:timers/promises";
import { countText } from "../../words/contract";
import type { Block } from "../contract";
import type { HandoverDocument } from "../report";
import { Sheet } from "./sheet";

/** Rows of one table at most: what is printed must stay a document. */
const MOST_ROWS = 20_000;
/** Rows set before others have their turn. */
const AT_ONCE = 10;
/** How wide columns are, by their titles; others as one part. */
const SHARES: Readonly<Record<string, number>> = {
  File: 3,
  Result: 2,
  Bytes: 1,
  "SHA-256, read again": 2.6,
  "Written to": 2.6,
  Remark: 2,
};

/** Writes a handover as a tagged PDF with its fonts in it, page by page. */
export function handoverAsPdf(document: HandoverDocument): Readable {
  const sheet = new Sheet(document.title, document.lead.join(" "));
  fill(sheet, document).then(
    () => sheet.end(),
    (error: Error) => (sheet.doc as unknown as Readable).destroy(error),
  );
  return sheet.doc as unknown as Readable;
}

async function fill(sheet: Sheet, { title, lead, sections }: HandoverDocument): Promise<void> {
  sheet.text("H1", title, { size: 20, weight: 700, after: 6 });
  for (const line of lead) sheet.text("P", line, { size: 10, soft: true, after: 2 });
  for (const section of sections) {
    sheet.space(10);
    sheet.text("H2", section.title, { size: 13, weight: 700, after: 5 });
    for (const block of section.blocks) {
      if (block.kind === "rows") {
        const table = sheet.table(block.head, sharesOf(block.head));
        let rows = 0;
        for await (const cells of block.rows()) {
          rows += 1;
          if (rows <= MOST_ROWS) table.row(cells);
          // Setting type takes its time: whoever else asks this process is answered between.
          if (rows % AT_ONCE === 0) await setImmediate();
        }
        table.end();
        if (rows > MOST_ROWS)
          sheet.text("P", `The first ${countText(MOST_ROWS)} of ${countText(rows)} rows; the sheet (CSV) has all of them.`, { size: 9.5 });
      } else plainBlock(sheet, block);
    }
  }
}

function plainBlock(sheet: Sheet, block: Block): void {
  if (block.kind === "text") sheet.text("P", block.text, { size: 10.5 });
  else if (block.kind === "list") sheet.list(block.items);
  else if (block.kind === "signature") sheet.signature(block.lines);
  else {
    const table = sheet.table(block.head, sharesOf(block.head));
    for (const cells of block.rows) table.row(cells);
    table.end();
    if (block.cut) sheet.text("P", block.cut, { size: 9.5 });
  }
}

const sharesOf = (head: readonly string[]): number[] => head.map((title) => SHARES[title] ?? 1);
