/** A source cannot be used. The message says why and what to do. */
export class SourceError extends Error {
  constructor(
    message: string,
    /** It would open if a part or parent of it were given. */
    readonly asksForFile = false,
  ) {
    super(message);
    this.name = "SourceError";
  }
}

/** A drive went away while it was read: nothing that is behind it can be said to be unreadable. */
export class DriveGoneError extends SourceError {
  constructor(path: string) {
    super(`${path} does not answer any more: the drive was disconnected. Connect it again; what was found is kept.`);
    this.name = "DriveGoneError";
  }
}
