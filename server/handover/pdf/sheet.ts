import PDFDocument from "pdfkit";
import { breakLines, type Line, Typeface, type Weight } from "./typeface";

const MARGIN = 56;
const INK = "#16303d";
const SOFT = "#5b6b73";
const HAIRLINE = "#dad6c9";
const LEADING = 1.35;
/** Room between the columns of a table, and above and below its rows. Points. */
const GAP = 8;
const PAD = 3;

type Tag = "H1" | "H2" | "P" | "LBody";
interface Style {
  readonly size: number;
  readonly weight?: Weight;
  readonly soft?: boolean;
  readonly indent?: number;
  /** Room below. Points. */
  readonly after?: number;
}
/** Anything that has a place in the document's structure. */
type Element = PDFKit.PDFStructureElement;

/**
 * A tagged document that is written page by page (ISO 32000-1, 14.8: each text has its place in the structure; what repeats on every page
 * is an artifact). Positions in points, from the top left corner.
 */
export class Sheet {
  readonly doc: PDFKit.PDFDocument;
  readonly #faces: Readonly<Record<Weight, Typeface>> = { 400: new Typeface(400), 700: new Typeface(700) };
  readonly #root: Element;
  #page = 1;
  #y = MARGIN;

  constructor(
    title: string,
    private readonly footer: string,
  ) {
    this.doc = new PDFDocument({
      size: "A4",
      margin: 0,
      tagged: true,
      pdfVersion: "1.7",
      lang: "en",
      displayTitle: true,
      info: { Title: title, Producer: "Tidy Compass", Creator: "Tidy Compass" },
    });
    for (const { faces } of Object.values(this.#faces)) for (const { name, path } of faces) this.doc.registerFont(name, path);
    this.#root = this.doc.struct("Document");
    this.doc.addStructure(this.#root);
    this.#writeFooter();
  }

  get #width(): number {
    return this.doc.page.width - 2 * MARGIN;
  }
  get #bottom(): number {
    return this.doc.page.height - MARGIN - 16;
  }

  /** Writes a text in lines, over pages where needed. @param parent its place in the structure; the document itself where none is given */
  text(tag: Tag, words: string, style: Style, parent: Element = this.#root): void {
    const { size, weight = 400, indent = 0, after = size * 0.5 } = style;
    const lines = this.#lines(words, size, weight, this.#width - indent);
    const element = this.doc.struct(tag);
    parent.add(element);
    // A heading never stands alone at the end of a page.
    this.#makeRoom(size * LEADING * (tag === "H1" || tag === "H2" ? 3.5 : 1));
    for (const line of lines) {
      this.#makeRoom(size * LEADING);
      element.add(() => this.#draw(line, MARGIN + indent, this.#y, style));
      this.#y += size * LEADING;
    }
    element.end();
    this.#y += after;
  }

  /** Leaves room below what was written. Points. */
  space(height: number): void {
    this.#y += height;
  }

  /** Writes a list, a level below the present one indented. */
  list(items: readonly { readonly text: string; readonly below: readonly string[] }[]): void {
    const list = this.doc.struct("L");
    this.#root.add(list);
    for (const { text, below } of items) {
      const item = this.doc.struct("LI");
      list.add(item);
      this.text("LBody", `– ${text}`, { size: 10.5, after: 2, indent: 6 }, item);
      if (below.length > 0) {
        const inner = this.doc.struct("L");
        item.add(inner);
        for (const line of below) {
          const own = this.doc.struct("LI");
          inner.add(own);
          this.text("LBody", `– ${line}`, { size: 9.5, after: 1, indent: 22 }, own);
          own.end();
        }
        inner.end();
      }
      item.end();
    }
    list.end();
    this.#y += 6;
  }

  /** Begins a table. @param shares the widths of its columns, in parts of them all */
  table(head: readonly string[], shares: readonly number[]): { row(cells: readonly string[]): void; end(): void } {
    const element = this.doc.struct("Table");
    this.#root.add(element);
    const all = shares.reduce((sum, share) => sum + share, 0);
    const room = this.#width - GAP * (head.length - 1);
    const columns = head.map((_, index) => (room * (shares[index] ?? 1)) / all);
    const row = (cells: readonly string[], tag: "TH" | "TD") => {
      const style: Style = tag === "TH" ? { size: 8.5, weight: 700 } : { size: 8.5 };
      const lines = cells.map((cell, index) => this.#lines(cell, style.size, style.weight ?? 400, columns[index] as number));
      const height = Math.max(...lines.map((each) => each.length)) * style.size * LEADING + 2 * PAD;
      const fits = this.#bottom - MARGIN;
      if (this.#y + Math.min(height, fits) > this.#bottom) {
        this.#newPage();
        if (tag === "TD") row(head, "TH");
      }
      const line = this.doc.struct("TR");
      element.add(line);
      const top = this.#y + PAD;
      let x = MARGIN;
      lines.forEach((cell, index) => {
        const own = this.doc.struct(tag);
        line.add(own);
        const most = Math.floor((fits - 2 * PAD) / (style.size * LEADING));
        const cut = () => [...cell.slice(0, most - 2), ...this.#lines("… (cut here)", style.size, 400, columns[index] as number)];
        const shown = cell.length > most ? cut() : cell;
        const left = x;
        own.add(() => {
          for (const [at, each] of shown.entries()) this.#draw(each, left, top + at * style.size * LEADING, style);
        });
        own.end();
        x += (columns[index] as number) + GAP;
      });
      line.end();
      this.#y += Math.min(height, fits);
      this.#artifact(() => this.#rule(this.#y));
    };
    row(head, "TH");
    return {
      row: (cells) => row(cells, "TD"),
      end: () => {
        element.end();
        this.#y += 10;
      },
    };
  }

  /** Draws places to sign, beside one another. */
  signature(lines: readonly string[]): void {
    this.#makeRoom(70);
    const wide = Math.min(180, (this.#width - 20 * (lines.length - 1)) / Math.max(1, lines.length));
    const y = this.#y + 42;
    lines.forEach((label, index) => {
      const x = MARGIN + index * (wide + 20);
      this.#artifact(() =>
        this.doc
          .moveTo(x, y)
          .lineTo(x + wide, y)
          .lineWidth(0.6)
          .stroke(INK),
      );
      const element = this.doc.struct("P");
      this.#root.add(element);
      for (const [at, line] of this.#lines(label, 8.5, 400, wide).entries())
        element.add(() => this.#draw(line, x, y + 4 + at * 11, { size: 8.5, soft: true }));
      element.end();
    });
    this.#y = y + 30;
  }

  end(): void {
    this.#root.end();
    this.doc.end();
  }

  #lines(words: string, size: number, weight: Weight, width: number): Line[] {
    return breakLines(this.#faces[weight], words, (width / size) * 1000);
  }

  #draw({ runs }: Line, x: number, y: number, { size, soft }: Style): void {
    let at = x;
    this.doc.fillColor(soft ? SOFT : INK).fontSize(size);
    for (const { face, text, width } of runs) {
      this.doc.font(face).text(text, at, y, { lineBreak: false });
      at += (width * size) / 1000;
    }
  }

  #rule(y: number): void {
    this.doc
      .moveTo(MARGIN, y)
      .lineTo(MARGIN + this.#width, y)
      .lineWidth(0.5)
      .stroke(HAIRLINE);
  }

  #makeRoom(height: number): void {
    if (this.#y + height > this.#bottom) this.#newPage();
  }

  #newPage(): void {
    this.doc.addPage();
    this.#page += 1;
    this.#y = MARGIN;
    this.#writeFooter();
  }

  #writeFooter(): void {
    const y = this.doc.page.height - MARGIN;
    const style = { size: 8, soft: true };
    const number = this.#lines(`Page ${this.#page}`, style.size, 400, 100)[0] as Line;
    const left = this.#lines(this.footer, style.size, 400, this.#width - 80)[0] as Line;
    this.#artifact(() => {
      this.#draw(left, MARGIN, y, style);
      this.#draw(number, MARGIN + this.#width - (number.width * style.size) / 1000, y, style);
    });
  }

  /** Draws what is no content of its own. */
  #artifact(draw: () => void): void {
    this.doc.markContent("Artifact", { type: "Layout" });
    draw();
    this.doc.endMarkedContent();
  }
}
