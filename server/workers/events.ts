import { EventEmitter } from "node:events";
import pg from "pg";
import { log } from "../log/logger";
import { readSettings } from "../settings";

const HEARTBEAT_MS = 15_000;
const RETRY_MS = 2_000;

const shared = globalThis as unknown as { compassEvents?: EventEmitter };

/** One listening connection for the whole server; it comes back by itself when the database went away. */
function events(): EventEmitter {
  if (shared.compassEvents) return shared.compassEvents;
  const emitter = new EventEmitter().setMaxListeners(0);
  shared.compassEvents = emitter;
  let lost = false;
  const connect = async () => {
    const client = new pg.Client({ connectionString: readSettings().COMPASS_DATABASE_URL });
    const again = (error: Error) => {
      log.warn({ error: error.message }, "listening connection lost");
      lost = true;
      client.end().catch(() => undefined);
      setTimeout(connect, RETRY_MS);
    };
    client.once("error", again);
    client.on("notification", ({ payload = "" }) => {
      const [jobId, change = "changed"] = payload.split(" ");
      emitter.emit(`job:${jobId}`, change);
    });
    try {
      await client.connect();
      await client.query("listen compass");
      // What happened while nobody listened is not announced again: every follower looks anew.
      if (lost) for (const name of emitter.eventNames()) emitter.emit(name, "changed");
      lost = false;
    } catch (error) {
      client.removeListener("error", again);
      again(error as Error);
    }
  };
  void connect();
  return emitter;
}

/** A stream of server-sent events: "changed" whenever something of the job did, "settled" where that is no more than how far files of a restore are. */
export function followJob(jobId: number, signal: AbortSignal): ReadableStream<Uint8Array> {
  const encoder = new TextEncoder();
  const name = `job:${jobId}`;
  let stop: () => void = () => undefined;
  return new ReadableStream({
    start(controller) {
      const say = (text: string) => {
        try {
          controller.enqueue(encoder.encode(text));
        } catch {
          stop();
        }
      };
      const changed = (change: string) => say(`event: ${change}\ndata: {}\n\n`);
      const beat = setInterval(() => say(": alive\n\n"), HEARTBEAT_MS);
      stop = () => {
        clearInterval(beat);
        events().off(name, changed);
      };
      events().on(name, changed);
      signal.addEventListener("abort", stop);
      say("retry: 1500\n\n");
      changed("changed");
    },
    cancel: () => stop(),
  });
}
