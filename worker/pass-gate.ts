/** The two numbers a pass's thread and the main one share: how many batches were taken; whether no more is wanted than what is in hand. */
export const GATE = { taken: 0, enough: 1 } as const;
