import { runTask } from "@/server/content/pool";
import { database } from "@/server/database/connection";
import { storedCopy } from "@/server/previews/content";
import { thumbnail } from "@/server/previews/pictures";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) => {
  const { db } = database();
  const stored = await storedCopy(db, idFrom(copy));
  const body = new Uint8Array(await thumbnail(db, stored.id, (id) => runTask("thumbnail", [id], request.signal)));
  return new Response(body, { headers: { "Content-Type": "image/webp", "Cache-Control": "private, max-age=86400" } });
});
