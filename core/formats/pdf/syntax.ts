/** The syntax of PDF objects: ISO 32000-1, 7.2 (white space, delimiters) and 7.3 (objects). */
const MOST_LEVELS = 200;
const SPACE = /[\0\t\n\f\r ]/;
const DELIMITER = /[()<>[\]{}/%]/;

/** Reads values from a text (one character a byte); null wherever no value stands. */
export class PdfSyntax {
  at = 0;

  constructor(private readonly text: string) {}

  /** Past white space and comments. */
  skip(): void {
    for (;;) {
      const mark = this.text[this.at];
      if (mark === "%") {
        while (this.at < this.text.length && !/[\r\n]/.test(this.text[this.at] as string)) this.at += 1;
      } else if (mark !== undefined && SPACE.test(mark)) this.at += 1;
      else return;
    }
  }

  /** Past one value. False: none stands here, or it does not end. Past the end of the text: `short` is set. */
  value(level = 0): boolean {
    this.skip();
    const mark = this.text[this.at];
    if (mark === undefined || level > MOST_LEVELS) return false;
    if (mark === "(") return this.#literal();
    if (mark === "<") return this.text[this.at + 1] === "<" ? this.#dictionary(level) : this.#hexadecimal();
    if (mark === "[") return this.#array(level);
    if (mark === "/") {
      this.at += 1;
      this.#regular();
      return true;
    }
    if (DELIMITER.test(mark)) return false;
    return this.#word();
  }

  get short(): boolean {
    return this.at >= this.text.length;
  }

  #regular(): string {
    const from = this.at;
    while (this.at < this.text.length && !SPACE.test(this.text[this.at] as string) && !DELIMITER.test(this.text[this.at] as string))
      this.at += 1;
    return this.text.slice(from, this.at);
  }

  /** A number, perhaps the first of a reference, or one of the words that are values. */
  #word(): boolean {
    const word = this.#regular();
    if (/^(true|false|null)$/.test(word)) return true;
    if (!/^[+-]*(\d+\.?\d*|\.\d+)$/.test(word)) return false;
    const reference = /^\s+\d+\s+R(?![A-Za-z0-9])/.exec(this.text.slice(this.at, this.at + 24));
    if (reference && /^\d+$/.test(word)) this.at += reference[0].length;
    return true;
  }

  #literal(): boolean {
    let depth = 0;
    for (; this.at < this.text.length; this.at += 1) {
      const mark = this.text[this.at];
      if (mark === "\\") this.at += 1;
      else if (mark === "(") depth += 1;
      else if (mark === ")") {
        depth -= 1;
        if (depth === 0) {
          this.at += 1;
          return true;
        }
      }
    }
    return false;
  }

  #hexadecimal(): boolean {
    for (this.at += 1; this.at < this.text.length; this.at += 1) {
      const mark = this.text[this.at] as string;
      if (mark === ">") {
        this.at += 1;
        return true;
      }
      if (!/[0-9A-Fa-f\s\0]/.test(mark)) return false;
    }
    return false;
  }

  #array(level: number): boolean {
    this.at += 1;
    for (;;) {
      this.skip();
      if (this.text[this.at] === "]") {
        this.at += 1;
        return true;
      }
      if (!this.value(level + 1)) return false;
    }
  }

  #dictionary(level: number): boolean {
    this.at += 2;
    for (;;) {
      this.skip();
      if (this.text.startsWith(">>", this.at)) {
        this.at += 2;
        return true;
      }
      if (this.text[this.at] !== "/" || !this.value(level + 1)) return false;
      if (!this.value(level + 1)) return false;
    }
  }
}
