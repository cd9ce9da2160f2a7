import { runTask } from "@/server/content/pool";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) => {
  const wanted = new URL(request.url).searchParams;
  const [at, length] = [Number(wanted.get("at") ?? 0) || 0, Number(wanted.get("length") ?? 512) || 512];
  const body = new Uint8Array(await runTask("bytes", [idFrom(copy), at, length], request.signal));
  return new Response(body, { headers: { "Content-Type": "application/octet-stream", "Content-Disposition": "attachment" } });
});
