import { database } from "@/server/database/connection";
import { storedCopy } from "@/server/previews/content";
import { thumbnail } from "@/server/previews/pictures";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { copy }: { copy: string }) => {
  const body = new Uint8Array(await thumbnail(await storedCopy(database().db, idFrom(copy))));
  return new Response(body, { headers: { "Content-Type": "image/webp", "Cache-Control": "private, max-age=86400" } });
});
