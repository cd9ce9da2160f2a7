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

/**
 * The source is not where it is looked for, or another one is there: seen from here. Another computer with the same database may see it.
 */
export class NotSeenError extends SourceError {
  constructor(message: string) {
    super(message);
    this.name = "NotSeenError";
  }
}

/** Whether an error means that its source is not seen from here; also one that came from a thread, which is no object of our class any more. */
export const isNotSeen = (error: unknown): boolean => error instanceof Error && error.name === "NotSeenError";

/** A drive went away while it was read: nothing that is behind it can be said to be unreadable. */
export class DriveGoneError extends SourceError {
  constructor(path: string) {
    super(`${path} does not answer any more: the drive was disconnected. Connect it again; what was found is kept.`);
    this.name = "DriveGoneError";
  }
}
