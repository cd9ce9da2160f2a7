/** Something a person can mend. The message says what happened and what to do next. */
export class Problem extends Error {
  constructor(
    message: string,
    /** HTTP status it is answered with. */
    readonly status = 400,
  ) {
    super(message);
    this.name = "Problem";
  }
}

/** The database's own code of an error, also where it is wrapped. */
export function codeOf(error: unknown): string {
  const { code, cause } = error as { code?: unknown; cause?: { code?: unknown } };
  return String(code ?? cause?.code ?? "");
}
