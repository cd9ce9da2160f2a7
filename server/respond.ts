import { NextResponse } from "next/server";
import { z } from "zod";
import { log } from "./log/logger";
import { Problem } from "./problem";

type Params = Record<string, string>;

/** A route handler whose problems become answers a person can read. */
export function answer<P extends Params>(handle: (request: Request, params: P) => Promise<unknown>) {
  return async (request: Request, context: { params: Promise<P> }): Promise<Response> => {
    const began = performance.now();
    try {
      const value = await handle(request, await context.params);
      const response = value instanceof Response ? value : NextResponse.json(value ?? { ok: true });
      // How long the handler took, for whoever looks (Server Timing, W3C).
      response.headers.set("Server-Timing", `handler;dur=${(performance.now() - began).toFixed(1)}`);
      return response;
    } catch (error) {
      if (error instanceof Problem) return NextResponse.json({ problem: error.message }, { status: error.status });
      if (error instanceof z.ZodError)
        return NextResponse.json({ problem: error.issues[0]?.message ?? "The request is not valid." }, { status: 400 });
      log.error({ error: (error as Error).stack }, "request failed");
      return NextResponse.json({ problem: "The bench could not do this. Its log tells more; nothing was lost." }, { status: 500 });
    }
  };
}

/** A number from the address. @throws Problem when it is none */
export function idFrom(text: string): number {
  if (!/^\d{1,15}$/.test(text)) throw new Problem("There is nothing at this address.", 404);
  return Number(text);
}

export async function bodyAs<T>(request: Request, contract: z.ZodType<T>): Promise<T> {
  const body: unknown = await request.json().catch(() => {
    throw new Problem("The request is not valid.");
  });
  return contract.parse(body);
}
