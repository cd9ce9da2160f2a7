import { describe, expect, it } from "vitest";
import { z } from "zod";
import { DriveGoneError } from "../io/source-error";
import { Problem } from "./problem";
import { answer, bodyAs, idFrom } from "./respond";

const ask = (handle: () => Promise<unknown>, request = new Request("http://bench/api/x")) =>
  answer(handle)(request, { params: Promise.resolve({}) });
const problemOf = async (response: Response) => ((await response.json()) as { problem: string }).problem;

describe("answers of the routes", () => {
  it("carry what the handler gives, and how long it took", async () => {
    const response = await ask(async () => ({ count: 3 }));
    expect([response.status, await response.json()]).toEqual([200, { count: 3 }]);
    // Server Timing, W3C: a name and a duration in milliseconds.
    expect(response.headers.get("Server-Timing")).toMatch(/^handler;dur=\d+\.\d$/);
    expect(await (await ask(async () => undefined)).json()).toEqual({ ok: true });
    const own = await ask(async () => new Response("bytes", { status: 206 }));
    expect([own.status, await own.text()]).toEqual([206, "bytes"]);
  });

  it("say what is wrong in a person's words, with the status that fits", async () => {
    const refused = await ask(async () => {
      throw new Problem("This source is in use.", 409);
    });
    expect([refused.status, await problemOf(refused)]).toEqual([409, "This source is in use."]);
    const gone = await ask(async () => {
      throw new DriveGoneError("/dev/sdb");
    });
    expect([gone.status, await problemOf(gone)]).toEqual([409, expect.stringContaining("the drive was disconnected. Connect it again")]);
    const invalid = await ask(async () => z.object({ title: z.string().min(1, "A job needs a title.") }).parse({ title: "" }));
    expect([invalid.status, await problemOf(invalid)]).toEqual([400, "A job needs a title."]);
  });

  it("treat what the database cannot compare as what is not there, and give nothing of the inside", async () => {
    // PostgreSQL, appendix A: numeric value out of range, foreign key violation, invalid text, character not in repertoire.
    for (const [code, status] of [
      ["22003", 404],
      ["23503", 404],
      ["22P02", 400],
      ["22021", 400],
    ] as const) {
      const wrapped = await ask(async () => {
        throw Object.assign(new Error("Failed query: select secret from jobs"), { cause: { code } });
      });
      expect(wrapped.status).toBe(status);
      expect(await problemOf(wrapped)).not.toMatch(/select|query|secret/);
      const bare = await ask(async () => {
        throw Object.assign(new Error("x"), { code });
      });
      expect(bare.status).toBe(status);
    }
    const fault = await ask(async () => {
      throw new Error("a fault at /somewhere/inside.ts:12");
    });
    expect(fault.status).toBe(500);
    expect(await problemOf(fault)).toBe("The bench could not do this. Its log tells more; nothing was lost.");
  });

  it("take ids that are numbers, and bodies that keep to their contract", async () => {
    expect(idFrom("42")).toBe(42);
    for (const text of ["", "-1", "1.5", "1e3", "abc", " 1", "9".repeat(16)]) expect(() => idFrom(text)).toThrow(Problem);
    const contract = z.object({ chosen: z.boolean() });
    const post = (body: string) => new Request("http://bench/api/x", { method: "POST", body });
    expect(await bodyAs(post('{"chosen":true}'), contract)).toEqual({ chosen: true });
    await expect(bodyAs(post("{"), contract)).rejects.toThrow("The request is not valid.");
    await expect(bodyAs(post("[]"), contract)).rejects.toThrow(z.ZodError);
  });
});
