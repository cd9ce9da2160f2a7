import pino from "pino";

/** The process's own log, on standard error as JSON lines. */
export const log = pino({ level: process.env.COMPASS_LOG ?? "info", base: null }, pino.destination({ dest: 2, sync: true }));
