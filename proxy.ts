import { type NextRequest, NextResponse } from "next/server";
import { DOOR_HEADER, isOpenPath } from "./server/shares/door-address";

/**
 * Turns away requests made by other sites in the same browser: a page from elsewhere must not be able to start a
 * restore on this bench, to read from it, nor reach it under a name of its own. It may lead to a page of the bench.
 */
export function proxy(request: NextRequest): NextResponse {
  const origin = request.headers.get("origin");
  const host = request.headers.get("host") ?? "";
  const foreignOrigin = origin !== null && origin !== "null" && hostOf(origin) !== host;
  const changes = request.method !== "GET" && request.method !== "HEAD";
  const site = request.headers.get("sec-fetch-site");
  const leadsHere =
    !changes &&
    request.headers.get("sec-fetch-mode") === "navigate" &&
    request.headers.get("sec-fetch-dest") === "document" &&
    !request.nextUrl.pathname.startsWith("/api/");
  if ((changes && (foreignOrigin || origin === "null")) || (site === "cross-site" && !leadsHere)) {
    return NextResponse.json({ problem: "This request came from another site and was turned away." }, { status: 403 });
  }
  // What clients reach from other computers comes through the door, under whatever name this one has there, and is shared pages alone.
  const door = request.headers.get(DOOR_HEADER);
  if (door !== null) {
    const { pathname } = request.nextUrl;
    if (door === "" || door !== process.env.COMPASS_DOOR || !isOpenPath(pathname))
      return NextResponse.json({ problem: "There is nothing at this address." }, { status: 404 });
    return NextResponse.next();
  }
  if (!knownHost(host)) return NextResponse.json({ problem: "This server is not known under that name." }, { status: 421 });
  return NextResponse.next();
}

/** The host an origin names; null: it names none. */
function hostOf(origin: string): string | null {
  try {
    return new URL(origin).host;
  } catch {
    return null;
  }
}

/** The name it listens on, this machine's own names, or an address: a foreign name pointing here is a trick. */
function knownHost(host: string): boolean {
  const name = host.replace(/:\d+$/, "").toLowerCase();
  return name === "localhost" || name === process.env.COMPASS_HOST || /^[\d.]+$/.test(name) || name.startsWith("[");
}

export const config = { matcher: ["/((?!_next/static).*)"] };
