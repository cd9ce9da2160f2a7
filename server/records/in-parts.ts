import { attachment } from "../respond";
import type { ExportPart } from "./contract";

/**
 * Answers with a download that is written a part at a time: each is asked for when the one before was taken, so that a million rows need no
 * more memory than a few. The first part is there before the answer begins: what goes wrong with it is said in words.
 */
export async function answerInParts(partFrom: (from: number) => Promise<ExportPart>, type: string, ending: string): Promise<Response> {
  const first = await partFrom(0);
  const encoder = new TextEncoder();
  let part: ExportPart | null = first;
  const body = new ReadableStream<Uint8Array>({
    async pull(controller) {
      if (part === null) return controller.close();
      controller.enqueue(encoder.encode(part.text));
      part = part.next === null ? null : await partFrom(part.next);
      if (part === null) controller.close();
    },
  });
  return new Response(body, { headers: { "Content-Type": type, "Content-Disposition": attachment(`${first.name}.${ending}`) } });
}
