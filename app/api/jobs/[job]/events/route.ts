import { database } from "@/server/database/connection";
import { findJob } from "@/server/jobs/queries";
import { atMost } from "@/server/limits";
import { Problem } from "@/server/problem";
import { answer, idFrom } from "@/server/respond";
import { followJob } from "@/server/workers/events";

export const dynamic = "force-dynamic";

/** Windows that follow jobs at the same time. */
const MOST_FOLLOWERS = 500;

/** Server-sent events: one line whenever something of the job changed. */
export const GET = answer<{ job: string }>(async (request, { job }) => {
  const id = idFrom(job);
  if (!(await findJob(database().db, id))) throw new Problem("There is no such job.", 404);
  const headers = { "Content-Type": "text/event-stream", "Cache-Control": "no-cache, no-transform", "X-Accel-Buffering": "no" };
  return atMost(MOST_FOLLOWERS, "events", async () => new Response(followJob(id, request.signal), { headers }));
});
