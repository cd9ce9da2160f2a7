import { database } from "@/server/database/connection";
import { bytesOf } from "@/server/items/preview";
import { findStoredCopy } from "@/server/items/queries";
import { Problem } from "@/server/problem";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) => {
  const stored = await findStoredCopy(database().db, idFrom(copy));
  if (!stored) throw new Problem("There is no such copy.", 404);
  const wanted = new URL(request.url).searchParams;
  const body = new Uint8Array(await bytesOf(stored, Number(wanted.get("at") ?? 0) || 0, Number(wanted.get("length") ?? 512) || 512));
  return new Response(body, { headers: { "Content-Type": "application/octet-stream", "Content-Disposition": "attachment" } });
});
