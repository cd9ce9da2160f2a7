import { describe, expect, it } from "vitest";
import { momentOf } from "./moment";

describe("a moment on the command line", () => {
  it("is the end of a day, or a time in UTC unless it says another zone (RFC 3339)", () => {
    expect(momentOf("2026-01-31")).toBe(Date.UTC(2026, 0, 31, 23, 59, 59, 999));
    expect(momentOf("2026-01-31T18:05:00")).toBe(Date.UTC(2026, 0, 31, 18, 5));
    expect(momentOf("2026-01-31T18:05:00Z")).toBe(Date.UTC(2026, 0, 31, 18, 5));
    expect(momentOf("2026-01-31T18:05:00+02:00")).toBe(Date.UTC(2026, 0, 31, 16, 5));
  });

  it("that is none is refused with how it is written", () => {
    for (const text of ["yesterday", "2026-13-01", "2026-02-31T99:00", ""]) expect(() => momentOf(text)).toThrow(/write 2026-01-31/);
  });
});
