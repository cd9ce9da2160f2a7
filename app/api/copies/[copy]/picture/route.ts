import { database } from "@/server/database/connection";
import { storedCopy } from "@/server/previews/content";
import { picturePreview } from "@/server/previews/pictures";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) => {
  const stored = await storedCopy(database().db, idFrom(copy));
  const longest = new URL(request.url).searchParams.get("longest") === "large" ? 2400 : 720;
  const body = new Uint8Array(await picturePreview(stored, longest));
  return new Response(body, { headers: { "Content-Type": "image/webp", "Cache-Control": "private, max-age=3600" } });
});
