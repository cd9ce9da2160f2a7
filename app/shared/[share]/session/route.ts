import { NextResponse } from "next/server";
import { database } from "@/server/database/connection";
import { answer, bodyAs } from "@/server/respond";
import { enter, leave, sessionCookie, sessionIn } from "@/server/shares/access";
import { enterShare } from "@/server/shares/contract";
import { FROM_HEADER } from "@/server/shares/door-address";

/** Lets a browser in that gives the right password. */
export const POST = answer(async (request, { share }: { share: string }) => {
  const { password } = await bodyAs(request, enterShare);
  const from = request.headers.get(FROM_HEADER) ?? "this computer";
  const { session, endsAt } = await enter(database().db, share, password, from);
  const encrypted = request.headers.get("x-forwarded-proto") === "https";
  return NextResponse.json({ ok: true }, { headers: { "Set-Cookie": sessionCookie(share, session, endsAt, encrypted) } });
});

/** Lets it out again. */
export const DELETE = answer(async (request, { share }: { share: string }) => {
  await leave(database().db, sessionIn(request));
  return NextResponse.json({ ok: true }, { headers: { "Set-Cookie": sessionCookie(share, "", new Date(0), false) } });
});
