import { database } from "@/server/database/connection";
import { storedCopy } from "@/server/previews/content";
import { bytesOf } from "@/server/previews/raw";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) => {
  const stored = await storedCopy(database().db, idFrom(copy));
  const wanted = new URL(request.url).searchParams;
  const body = new Uint8Array(await bytesOf(stored, Number(wanted.get("at") ?? 0) || 0, Number(wanted.get("length") ?? 512) || 512));
  return new Response(body, { headers: { "Content-Type": "application/octet-stream", "Content-Disposition": "attachment" } });
});
