import { resolve } from "node:path";
import { describe, expect, it } from "vitest";
import { readSettings } from "./settings";

describe("settings", () => {
  it("have defaults that need nothing set", () => {
    const settings = readSettings({});
    expect(settings).toMatchObject({ COMPASS_HOST: "127.0.0.1", COMPASS_PORT: 4310, COMPASS_SOURCES: [resolve("data/sources")] });
    expect(settings.COMPASS_DATABASE_URL).toBeUndefined();
  });

  it("name each wrong one in words", () => {
    expect(() => readSettings({ COMPASS_PORT: "ninety", COMPASS_DATABASE_URL: "mysql://x" })).toThrow(
      /COMPASS_PORT is not right[\s\S]*COMPASS_DATABASE_URL is not right/,
    );
  });

  // Nobody signs in: the bench must not be offered to a network.
  it("keep the bench on this computer", () => {
    for (const host of ["127.0.0.1", "127.0.0.2", "::1", "localhost"]) expect(readSettings({ COMPASS_HOST: host }).COMPASS_HOST).toBe(host);
    for (const host of ["0.0.0.0", "::", "192.168.1.4", "bench.example", "127.0.0.1.example"])
      expect(() => readSettings({ COMPASS_HOST: host })).toThrow(/COMPASS_HOST is not right: the bench has no sign-in/);
  });

  it("take several source folders", () => {
    expect(readSettings({ COMPASS_SOURCES: "/a:/b" }).COMPASS_SOURCES).toEqual(["/a", "/b"]);
  });
});
