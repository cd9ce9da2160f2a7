import { runTask } from "@/server/content/pool";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) => {
  const longest = new URL(request.url).searchParams.get("longest") === "large" ? 2400 : 720;
  const body = new Uint8Array(await runTask("picture", [idFrom(copy), longest], request.signal));
  return new Response(body, { headers: { "Content-Type": "image/webp", "Cache-Control": "private, max-age=3600" } });
});
