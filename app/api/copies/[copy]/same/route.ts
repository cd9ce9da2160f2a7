import { z } from "zod";
import { runTask } from "@/server/content/pool";
import { answer, bodyAs, idFrom } from "@/server/respond";

const asked = z.object({ stream: z.number().int().nullable(), target: z.string().min(1) });

/** Whether a file at the destination holds the same bytes as a copy. */
export const POST = answer(async (request, { copy }: { copy: string }) => {
  const { stream, target } = await bodyAs(request, asked);
  return { same: await runTask("samePresent", [idFrom(copy), stream, target], request.signal) };
});
