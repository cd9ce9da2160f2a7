import { runTask } from "@/server/content/pool";
import { answer, idFrom, numberFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) => {
  const wanted = new URL(request.url).searchParams;
  const [at, length] = [numberFrom(wanted, "at"), numberFrom(wanted, "length", 512)];
  const body = new Uint8Array(await runTask("bytes", [idFrom(copy), at, length], request.signal));
  return new Response(body, { headers: { "Content-Type": "application/octet-stream", "Content-Disposition": "attachment" } });
});
