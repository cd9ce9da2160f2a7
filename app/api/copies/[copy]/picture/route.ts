import { database } from "@/server/database/connection";
import { picturePreview } from "@/server/items/preview";
import { findStoredCopy } from "@/server/items/queries";
import { Problem } from "@/server/problem";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) => {
  const stored = await findStoredCopy(database().db, idFrom(copy));
  if (!stored) throw new Problem("There is no such copy.", 404);
  const longest = new URL(request.url).searchParams.get("longest") === "large" ? 2400 : 720;
  const body = new Uint8Array(await picturePreview(stored, longest));
  return new Response(body, { headers: { "Content-Type": "image/webp", "Cache-Control": "private, max-age=3600" } });
});
