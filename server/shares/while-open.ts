import type { Connection } from "../database/connection";
import { type Access, isStillOpen } from "./access";

/** How often a download that is on its way sees whether its link is still open. Milliseconds. */
const LOOK_MS = 1_000;

/** The same answer, which breaks off when its link is ended: what is on its way is no exception. */
export function whileOpen(db: Connection, access: Access, response: Response): Response {
  if (!response.body) return response;
  let looked = Date.now();
  const look = new TransformStream<Uint8Array, Uint8Array>({
    async transform(part, controller) {
      if (Date.now() - looked >= LOOK_MS) {
        looked = Date.now();
        if (!(await isStillOpen(db, access))) return controller.error(new Error("the link was ended"));
      }
      controller.enqueue(part);
    },
  });
  return new Response(response.body.pipeThrough(look), response);
}
