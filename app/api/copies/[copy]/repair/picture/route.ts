import { runTask } from "@/server/content/pool";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) => {
  const body = new Uint8Array(await runTask("repairedPicture", [idFrom(copy)], request.signal));
  return new Response(body, { headers: { "Content-Type": "image/webp", "Cache-Control": "private, max-age=600" } });
});
