import { Problem } from "./problem";

/** Answers of one kind that are on their way. */
const shared = globalThis as unknown as { compassOnTheirWay?: Map<string, number> };

/**
 * Gives an answer that costs much, unless so many of its kind are on their way already. It counts until its last byte is sent, or its
 * reader has gone.
 * @throws Problem when there are too many
 */
export async function atMost(most: number, kind: string, make: () => Promise<Response>): Promise<Response> {
  shared.compassOnTheirWay ??= new Map();
  const counts = shared.compassOnTheirWay;
  const now = counts.get(kind) ?? 0;
  if (now >= most) throw new Problem("Too much of this is asked for at once. Wait until one of the others has ended, and try again.", 429);
  counts.set(kind, now + 1);
  let over = false;
  const end = () => {
    if (!over) counts.set(kind, (counts.get(kind) ?? 1) - 1);
    over = true;
  };
  try {
    const response = await make();
    if (!response.body) {
      end();
      return response;
    }
    return new Response(counted(response.body, end), response);
  } catch (error) {
    end();
    throw error;
  }
}

/** The same stream, which says when it is over, however it ends. */
function counted(stream: ReadableStream<Uint8Array>, over: () => void): ReadableStream<Uint8Array> {
  const reader = stream.getReader();
  return new ReadableStream<Uint8Array>({
    async pull(controller) {
      try {
        const { done, value } = await reader.read();
        if (!done) return controller.enqueue(value);
        over();
        controller.close();
      } catch (error) {
        over();
        controller.error(error);
      }
    },
    async cancel(reason) {
      over();
      await reader.cancel(reason);
    },
  });
}
