import { describe, expect, it } from "vitest";
import { atMost } from "./limits";

const stream = (pieces: number) => {
  let left = pieces;
  return new ReadableStream<Uint8Array>({
    pull: (controller) => (left-- > 0 ? controller.enqueue(new Uint8Array(10)) : controller.close()),
  });
};

describe("answers that cost much", () => {
  it("are limited in number until they are sent, or their reader has gone, or they failed", async () => {
    const make = () => atMost(2, "download", async () => new Response(stream(3), { headers: { "X-Kept": "yes" } }));
    const [first, second] = [await make(), await make()];
    await expect(make()).rejects.toMatchObject({ status: 429, message: expect.stringMatching(/^[A-Z].*\.$/) });
    // Another kind is counted by itself.
    expect((await atMost(1, "report", async () => new Response("words"))).status).toBe(200);
    expect(first.headers.get("X-Kept")).toBe("yes");
    expect((await first.arrayBuffer()).byteLength).toBe(30);
    const third = await make();
    await second.body?.cancel();
    const fourth = await make();
    await expect(make()).rejects.toThrow("at once");
    await third.arrayBuffer();
    await expect(atMost(2, "download", () => Promise.reject(new Error("gone")))).rejects.toThrow("gone");
    const failing = await atMost(
      2,
      "download",
      async () => new Response(new ReadableStream({ pull: () => Promise.reject(new Error("cut")) })),
    );
    await expect(failing.arrayBuffer()).rejects.toThrow();
    await fourth.arrayBuffer();
    for (const each of [await make(), await make()]) await each.body?.cancel();
  });
});
