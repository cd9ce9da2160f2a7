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

  it("take several source folders", () => {
    expect(readSettings({ COMPASS_SOURCES: "/a:/b" }).COMPASS_SOURCES).toEqual(["/a", "/b"]);
  });
});
