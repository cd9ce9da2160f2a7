import { database } from "@/server/database/connection";
import { repairedPicture } from "@/server/repairs/repairs";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { copy }: { copy: string }) => {
  const body = new Uint8Array(await repairedPicture(database().db, idFrom(copy)));
  return new Response(body, { headers: { "Content-Type": "image/webp", "Cache-Control": "private, max-age=600" } });
});
