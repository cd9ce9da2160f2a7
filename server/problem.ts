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
