/** Exit codes, as the help promises them. */
export const EXIT = { done: 0, problems: 1, usage: 2, unreadable: 3 } as const;

/** The command was called wrongly. */
export class Usage extends Error {}
