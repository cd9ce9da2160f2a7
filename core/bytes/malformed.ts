/** Bytes that cannot be what they should be, where a decoder or parser cannot go on. The message is plain words. */
export class Malformed extends Error {
  constructor(
    message: string,
    /** For engineers: where, what was found, what was expected. */
    readonly detail: string | null = null,
  ) {
    super(message);
    this.name = "Malformed";
  }
}
