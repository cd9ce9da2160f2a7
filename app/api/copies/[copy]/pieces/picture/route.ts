import { runTask } from "@/server/content/pool";
import { piecesFrom } from "@/server/pieces/contract";
import { answer, idFrom } from "@/server/respond";

/** The picture that comes out of pieces. */
export const GET = answer(async (request, { copy }: { copy: string }) => {
  const pieces = piecesFrom(new URL(request.url).searchParams.get("pieces") ?? "");
  const body = new Uint8Array(await runTask("picturePieces", [idFrom(copy), pieces], request.signal));
  return new Response(body, { headers: { "Content-Type": "image/webp", "Cache-Control": "private, max-age=600" } });
});
