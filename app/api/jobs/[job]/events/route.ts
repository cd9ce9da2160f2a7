import { idFrom } from "@/server/respond";
import { followJob } from "@/server/workers/events";

export const dynamic = "force-dynamic";

/** Server-sent events: one line whenever something of the job changed. */
export async function GET(request: Request, context: { params: Promise<{ job: string }> }): Promise<Response> {
  const { job } = await context.params;
  return new Response(followJob(idFrom(job), request.signal), {
    headers: { "Content-Type": "text/event-stream", "Cache-Control": "no-cache, no-transform", "X-Accel-Buffering": "no" },
  });
}
