import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { jobWith, startTestBench, type TestBench, until } from "../support/bench";
import { compass } from "../support/command-line";

let bench: TestBench;
beforeAll(async () => {
  bench = await startTestBench();
  bench.worker();
});
afterAll(() => bench.close());

const IMAGES = [
  "fat12",
  "fat16",
  "fat32",
  "exfat",
  "ntfs-4kn",
  "ntfs-features",
  "ntfs-reformatted",
  "camera-formatted",
  "camera-formatted-reused",
];

/** What the command line says, a JSON object a line. */
function said(...args: string[]): Record<string, unknown>[] {
  const done = compass(...args, "--json");
  expect(done.code, done.err).not.toBeNull();
  return done.lines();
}

/** As lines that can be compared, each with how often it occurs. */
function counted(rows: readonly (readonly unknown[])[]): Map<string, number> {
  const counts = new Map<string, number>();
  for (const row of rows) {
    const key = JSON.stringify(row);
    counts.set(key, (counts.get(key) ?? 0) + 1);
  }
  return counts;
}

const round = (share: unknown) => Math.round(Number(share) * 10_000) / 10_000;

describe("the interface and the command line find the same", () => {
  it.each(IMAGES)(
    "on %s, by records, leftovers, known places and content",
    async (image) => {
      const { jobId, source, path } = await jobWith(bench, image);
      const readable = source.volumes.filter((volume) => volume.readable);
      expect(readable.length).toBeGreaterThan(0);
      // Content comes before records here: what it finds is then stored by itself, and can be distinguished.
      for (const volume of readable) await startPass(bench.db, jobId, volume.id, "raw");
      await until(async () => (await listPasses(bench.db, jobId)).every((pass) => pass.state === "done"), 60);
      for (const volume of readable)
        for (const place of ["known-places", "file-record", "leftover-record"] as const) await startPass(bench.db, jobId, volume.id, place);
      await until(async () => (await listPasses(bench.db, jobId)).every((pass) => pass.state === "done"), 60);
      const { rows } = await bench.pool.query<Record<string, string>>(
        `select p.place as pass, c.place, c.state, c.type, f.path || '/' || c.name as path, c.size, c.condition, c.survival, c.rule, c.first_at, v.number
       from copies c join passes p on p.id = c.pass_id join folders f on f.id = c.folder_id join stores v on v.id = c.store_id
       where c.job_id = $1`,
        [jobId],
      );
      const listed = said("list", path, "--system");
      const stored = rows.filter(({ pass }) => pass === "file-record" || pass === "leftover-record");
      expect(listed.length).toBeGreaterThan(3);
      const line = (row: Record<string, unknown>) => [
        row.place,
        row.state,
        row.type,
        String(row.path).normalize("NFC"),
        Number(row.size),
        row.condition,
        round(row.survival),
      ];
      expect(counted(stored.map(line))).toEqual(counted(listed.map(line)));
      const places = said("places", path);
      expect(
        counted(rows.filter(({ pass }) => pass === "known-places").map((row) => [row.place, row.rule, row.path?.normalize("NFC")])),
      ).toEqual(counted(places.map((row) => [row.place, row.rule, String(row.restorePath).normalize("NFC")])));
      const swept = readable.flatMap((volume) => said("sweep", path, "--volume", String(volume.number)));
      const found = rows.filter(({ pass }) => pass === "raw");
      expect(counted(found.map((row) => [Number(row.first_at), Number(row.size), row.condition]))).toEqual(
        counted(swept.map((row) => [row.at, row.size, row.condition])),
      );
    },
    120_000,
  );
});
