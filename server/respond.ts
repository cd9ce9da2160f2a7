import { eq } from "drizzle-orm";
import { NextResponse } from "next/server";
import { z } from "zod";
import { safeName } from "../core/restore/names";
import { SourceError } from "../io/source-error";
import { type Connection, isDatabaseLost } from "./database/connection";
import { jobs } from "./database/schema";
import { log } from "./log/logger";
import { codeOf, Problem } from "./problem";

type Params = Record<string, string>;

/** What a request asks for that the database cannot even compare, or that would hang on nothing (PostgreSQL, appendix A). */
const REFUSED_BY_DATABASE: Readonly<Record<string, { problem: string; status: number }>> = {
  "22003": { problem: "There is nothing at this address.", status: 404 },
  "22P02": { problem: "The request holds a number that is none.", status: 400 },
  "23503": { problem: "There is nothing at this address.", status: 404 },
  "22021": { problem: "The request holds a character that no name can have.", status: 400 },
  "22P05": { problem: "The request holds a character that no name can have.", status: 400 },
};

const DATABASE_FULL =
  "The disk the database is on is full. Free some space there: what was stored is kept, and work goes on by itself then. See whether this was done, and do it again if not.";
const DATABASE_LOST =
  "The database does not answer just now. What was stored is kept, and work goes on by itself when it is back. See whether this was done, and do it again if not.";

/** What a route answers is data: opened by itself in a window, nothing in it may run or fetch. */
const DATA_POLICY = "sandbox; default-src 'none'; frame-ancestors 'none'";

/** A route handler whose problems become answers a person can read. */
export function answer<P extends Params>(handle: (request: Request, params: P) => Promise<unknown>) {
  return async (request: Request, context: { params: Promise<P> }): Promise<Response> => {
    const began = performance.now();
    const response = await responseTo(async () => handle(request, await context.params));
    // How long the handler took, for whoever looks (Server Timing, W3C).
    response.headers.set("Server-Timing", `handler;dur=${(performance.now() - began).toFixed(1)}`);
    if (!response.headers.has("Content-Security-Policy")) response.headers.set("Content-Security-Policy", DATA_POLICY);
    return response;
  };
}

async function responseTo(handle: () => Promise<unknown>): Promise<Response> {
  try {
    const value = await handle();
    return value instanceof Response ? value : NextResponse.json(value ?? { ok: true });
  } catch (error) {
    // A source that stops answering while it is read says so itself.
    if (error instanceof SourceError) return NextResponse.json({ problem: error.message }, { status: 409 });
    if (error instanceof Problem) return NextResponse.json({ problem: error.message }, { status: error.status });
    if (error instanceof z.ZodError)
      return NextResponse.json({ problem: error.issues[0]?.message ?? "The request is not valid." }, { status: 400 });
    const refused = REFUSED_BY_DATABASE[codeOf(error)];
    if (refused) return NextResponse.json({ problem: refused.problem }, { status: refused.status });
    if (isDatabaseLost(error)) {
      log.warn({ error: (error as Error).message }, "the database did not answer");
      const problem = codeOf(error) === "53100" ? DATABASE_FULL : DATABASE_LOST;
      return NextResponse.json({ problem }, { status: 503, headers: { "Retry-After": "2" } });
    }
    log.error({ error: (error as Error).stack }, "request failed");
    return NextResponse.json({ problem: "The bench could not do this. Its log tells more; nothing was lost." }, { status: 500 });
  }
}

/** The header that makes a response a download of that name (RFC 6266, RFC 8187). */
export const attachment = (name: string): string =>
  `attachment; filename*=UTF-8''${encodeURIComponent(name).replace(/['()*]/g, (mark) => `%${mark.charCodeAt(0).toString(16).toUpperCase()}`)}`;

/** What a job's downloads are called after. */
export async function downloadName(db: Connection, jobId: number): Promise<string> {
  const [job] = await db.select({ title: jobs.title }).from(jobs).where(eq(jobs.id, jobId));
  return safeName(job?.title ?? `Job ${jobId}`);
}

/** A number from the address. @throws Problem when it is none */
export function idFrom(text: string): number {
  if (!/^\d{1,15}$/.test(text)) throw new Problem("There is nothing at this address.", 404);
  return Number(text);
}

/** A whole number from a request's query. @throws Problem when it is none */
export function numberFrom(query: URLSearchParams, name: string, fallback = 0): number {
  const text = query.get(name);
  if (text === null) return fallback;
  if (!/^\d{1,15}$/.test(text)) throw new Problem(`“${name}” must be a whole number.`);
  return Number(text);
}

export async function bodyAs<T>(request: Request, contract: z.ZodType<T>): Promise<T> {
  const body: unknown = await request.json().catch(() => {
    throw new Problem("The request is not valid.");
  });
  return contract.parse(body);
}
