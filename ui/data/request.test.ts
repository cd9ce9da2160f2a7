import { afterEach, describe, expect, it, vi } from "vitest";
import { z } from "zod";
import { RequestError, read, write } from "./request";

const answer = (status: number, body: unknown) => new Response(typeof body === "string" ? body : JSON.stringify(body), { status });
const served = (response: Response | Error) => {
  const fetched = vi.fn((_path: string, _init?: RequestInit) =>
    response instanceof Error ? Promise.reject(response) : Promise.resolve(response),
  );
  vi.stubGlobal("fetch", fetched);
  return fetched;
};
afterEach(() => vi.unstubAllGlobals());

const contract = z.object({ count: z.number() });

describe("asking the bench", () => {
  it("gives what the contract says, and never what it does not", async () => {
    served(answer(200, { count: 3, more: true }));
    expect(await read("/api/x", contract)).toEqual({ count: 3 });
    served(answer(200, { count: "3" }));
    await expect(read("/api/x", contract)).rejects.toThrow(z.ZodError);
    served(answer(200, "<html>"));
    await expect(read("/api/x", contract)).rejects.toThrow(z.ZodError);
  });

  it("says in the server's own words why something was turned down", async () => {
    served(answer(409, { problem: "This restore is still running." }));
    await expect(write("POST", "/api/x")).rejects.toMatchObject({ message: "This restore is still running.", status: 409 });
    served(answer(500, "no JSON"));
    await expect(write("POST", "/api/x")).rejects.toMatchObject({ message: "The bench answered with an error (500).", status: 500 });
  });

  it("says what to do when nobody answers", async () => {
    served(new TypeError("fetch failed"));
    const failed = await read("/api/x", contract).catch((error: unknown) => error);
    expect(failed).toBeInstanceOf(RequestError);
    expect((failed as RequestError).message).toMatch(/still running; nothing that was found is lost/);
  });

  it("sends what is to be written as JSON; what must arrive when the page is left is kept alive", async () => {
    const fetched = served(answer(200, {}));
    await write("PUT", "/api/x", { a: 1 });
    expect(fetched.mock.calls[0]).toEqual([
      "/api/x",
      { method: "PUT", headers: { "Content-Type": "application/json" }, body: '{"a":1}', keepalive: true },
    ]);
    const again = served(answer(200, {}));
    await write("DELETE", "/api/x");
    expect(again.mock.calls[0]).toEqual(["/api/x", { method: "DELETE", keepalive: true }]);
    const posted = served(answer(200, {}));
    await write("POST", "/api/x", []);
    expect(posted.mock.calls[0]?.[1]).toMatchObject({ body: "[]", keepalive: true });
    // Browsers refuse more than 64 KiB (Fetch Standard, section 4.6); letters of several bytes count as such.
    const large = served(answer(200, {}));
    await write("PUT", "/api/x", "é".repeat(20_000));
    expect(large.mock.calls[0]?.[1]).toMatchObject({ keepalive: false });
  });
});
