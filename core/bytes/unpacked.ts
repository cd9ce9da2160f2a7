/**
 * How many plain bytes the unpackers of this thread have given so far. A few packed bytes may hold very many: who tries things again and again charges
 * what that costs by this, because a clock would make the result depend on the machine.
 */
export const unpacked = { bytes: 0 };
