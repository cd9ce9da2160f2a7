import { mkdtempSync, readFileSync, rmSync, statSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { expect, it } from "vitest";
import { layOut } from "./lay-out";

it("lays files out with their dates and further names, once and again", () => {
  const folder = mkdtempSync(join(tmpdir(), "lay-out-"));
  try {
    const modified = "2026-01-04T18:30:00Z";
    const files = {
      "first/rota.txt": { modified, content: Buffer.from("Mondays").toString("base64") },
      "second/rota.txt": { modified, link: "first/rota.txt" },
      empty: { modified, folder: true as const },
    };
    for (let turn = 0; turn < 2; turn += 1) {
      layOut(files, folder);
      expect(readFileSync(join(folder, "second/rota.txt"), "utf8")).toBe("Mondays");
      expect(statSync(join(folder, "second/rota.txt")).ino).toBe(statSync(join(folder, "first/rota.txt")).ino);
      expect(statSync(join(folder, "empty")).mtime.toISOString()).toBe("2026-01-04T18:30:00.000Z");
    }
  } finally {
    rmSync(folder, { recursive: true });
  }
});
