import { execFileSync, spawnSync } from "node:child_process";
import { existsSync, lstatSync, mkdirSync, mkdtempSync, readFileSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { basename, dirname, join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { FILE_MARK } from "../../core/bytes/file-marks";
import { itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { startRestore } from "../../server/restores/commands";
import type { RestorePlan } from "../../server/restores/contract";
import { rehearse } from "../../server/restores/rehearsal";
import { changeTray } from "../../server/tray/commands";
import { searchedJob, startTestBench, type TestBench } from "../support/bench";
import { endedRestore, planTo, type WholeRestore } from "../support/restores";

/** Whether files of this computer can have attributes of their own. */
function holdsAttributes(): boolean {
  const file = join(mkdtempSync(join(tmpdir(), "compass-attributes-")), "file");
  writeFileSync(file, "");
  return spawnSync("setfattr", ["-n", "user.a", "-v", "b", file]).status === 0;
}

let bench: TestBench;
let jobId: number;
/** The files of the volume that have named streams, by name, with how many. */
const withStreams = new Map<string, string[]>();

beforeAll(async () => {
  bench = await startTestBench();
  jobId = await searchedJob(bench, "ntfs-features");
  bench.worker();
  const { rows } = await bench.pool.query<{ name: string; streams: { name: string }[] }>(
    "select name, streams from copies where job_id = $1 and streams is not null and item_id is not null and layout is not null",
    [jobId],
  );
  for (const { name, streams } of rows)
    withStreams.set(
      name,
      streams.map((stream) => stream.name),
    );
}, 120_000);
afterAll(() => bench.close());

async function restored(destination: string, facts: Partial<RestorePlan>): Promise<WholeRestore> {
  await changeTray(bench.db, jobId, { everything: true, chosen: false });
  const { items } = await listItems(bench.db, jobId, itemQuery.parse({ show: "all", limit: 200 }));
  await changeTray(bench.db, jobId, { items: items.filter(({ condition }) => condition === "whole").map(({ id }) => id), chosen: true });
  return endedRestore(bench.db, jobId, await startRestore(bench.db, jobId, planTo(destination, facts)));
}

/** The entries of an AppleDouble file (RFC 1740, appendix A): id, and its bytes. */
function entriesOf(bytes: Buffer): Map<number, Buffer> {
  expect(bytes.readUInt32BE(0)).toBe(0x00051607);
  return new Map(
    Array.from({ length: bytes.readUInt16BE(24) }, (_, index) => 26 + index * 12).map((at) => {
      const offset = bytes.readUInt32BE(at + 4);
      return [bytes.readUInt32BE(at), bytes.subarray(offset, offset + bytes.readUInt32BE(at + 8))];
    }),
  );
}

describe("what hangs on a file beside its content", () => {
  it("is left where that is wished, and each file says so", async () => {
    expect(withStreams.size).toBeGreaterThan(0);
    const done = await restored("Left", {});
    expect(done.results.length).toBeGreaterThan(withStreams.size);
    for (const { path, leftBehind, state } of done.results) {
      const names = withStreams.get(basename(path));
      expect([path, state, leftBehind?.join()]).toEqual([
        path,
        "verified",
        names && `${names.length} named stream${names.length > 1 ? "s" : ""} (${names.join(", ")})`,
      ]);
    }
    expect(done.counts.leftBehind).toBe(done.results.filter(({ leftBehind }) => leftBehind).length);
  });

  it.runIf(holdsAttributes())("is kept with its file where that is wished, as another tool sees it", async () => {
    const done = await restored("Kept", { streams: "keep" });
    const seen = new Map<string, string[]>();
    for (const { path, output, leftBehind, state } of done.results) {
      const names = withStreams.get(basename(path)) ?? [];
      const text = execFileSync("getfattr", ["--absolute-names", "--", output as string], { encoding: "latin1" });
      const there = (text.match(/^user\..*$/gm) ?? []).map((name) => name.slice(5));
      if (names.length > 0) seen.set(basename(path), there);
      // What the file system does not take is reported, and nothing else.
      const left = names.filter((name) => !there.includes(name));
      expect([path, state, leftBehind?.join() ?? null]).toEqual([
        path,
        "verified",
        left.length > 0 ? `${left.length} named stream${left.length > 1 ? "s" : ""} (${left.join(", ")})` : null,
      ]);
    }
    expect([...seen.values()].flat().length).toBeGreaterThan(0);
    const [[name, streams]] = [...seen].filter(([, there]) => there.length > 0) as [[string, string[]]];
    const { rows } = await bench.pool.query<{ size: string }>(
      "select s->>'size' as size from copies, jsonb_array_elements(streams) s where job_id = $1 and name = $2 and s->>'name' = $3",
      [jobId, name, streams[0]],
    );
    const { output } = done.results.find(({ path }) => basename(path) === name) as { output: string };
    const value = execFileSync("getfattr", ["--absolute-names", "--only-values", "-n", `user.${streams[0]}`, "--", output]);
    expect(value.length).toBe(Number(rows[0]?.size));
  });

  it("goes along in second files, as was rehearsed, each beside its first and called after it", async () => {
    await changeTray(bench.db, jobId, { everything: true, chosen: false });
    const { items } = await listItems(bench.db, jobId, itemQuery.parse({ show: "all", limit: 200 }));
    const chosen = items.filter(({ condition }) => condition === "whole");
    await changeTray(bench.db, jobId, { items: chosen.map(({ id }) => id), chosen: true });
    const plan = planTo("Two files", { streams: "two-file" });
    // A first file whose name is taken gets a number; its second one must have the same.
    const rehearsed = await rehearse(bench.db, jobId, plan);
    const first = rehearsed.files.find(({ stream, path }) => stream === null && withStreams.has(basename(path)));
    mkdirSync(dirname(first?.target as string), { recursive: true });
    writeFileSync(first?.target as string, "in the way");
    const done = await endedRestore(bench.db, jobId, await startRestore(bench.db, jobId, plan));
    const seconds = done.results.filter(({ path }) => basename(path).startsWith("._"));
    expect(seconds).toHaveLength(withStreams.size);
    expect(done.counts.verified).toBe(chosen.length + withStreams.size);
    expect(rehearsed.writable).toBe(done.counts.files);
    expect(rehearsed.bytes).toBe(done.counts.bytes);
    expect(
      rehearsed.files
        .filter(({ stream }) => stream === -1)
        .map(({ size }) => size)
        .sort(),
    ).toEqual(seconds.map(({ size }) => size).sort());
    for (const { output, path, leftBehind } of seconds) {
      const content = done.results.find((each) => each.path === join(dirname(path), basename(path).slice(2)));
      expect(output).toBe(join(dirname(content?.output as string), `._${basename(content?.output as string)}`));
      expect([content?.leftBehind, leftBehind]).toEqual([null, null]);
      const info = entriesOf(readFileSync(output as string)).get(9) as Buffer;
      for (const name of withStreams.get(basename(path).slice(2)) as string[]) expect(info.includes(`${name}\0`)).toBe(true);
    }
    expect(seconds.some(({ output }) => / \(2\)/.test(output as string))).toBe(true);
  });

  it("a second file whose name is taken is not written under another one, unless the one there may be replaced", async () => {
    const before = await restored("Taken", { streams: "two-file" });
    const again = await restored("Taken", { streams: "two-file", conflict: "compare" });
    expect(again.results.every(({ state }) => state === "same")).toBe(true);
    const second = before.results.find(({ path }) => basename(path).startsWith("._"));
    writeFileSync(second?.output as string, "another one’s");
    const kept = await restored("Taken", { streams: "two-file", conflict: "compare" });
    const failed = kept.results.filter(({ state }) => state === "failed");
    expect(failed.map(({ path, problem }) => [path, problem?.slice(0, 39)])).toEqual([
      [second?.path, "A file of that name is there already, a"],
    ]);
    expect(readFileSync(second?.output as string, "utf8")).toBe("another one’s");
    const replaced = await restored("Taken", { streams: "two-file", conflict: "replace" });
    expect(replaced.counts.verified).toBe(before.counts.verified);
    expect(existsSync(replaced.results.find(({ path }) => path === second?.path)?.aside as string)).toBe(true);
  });

  it("the mark “read only” is kept where the destination can hold it, the mark “hidden” is reported", async () => {
    const { rows } = await bench.pool.query<{ id: string; name: string }>(
      "select c.id, c.name from copies c join items i on i.best_copy_id = c.id where c.job_id = $1 and i.condition = 'whole' order by c.id limit 4",
      [jobId],
    );
    const marks = [FILE_MARK.readOnly, FILE_MARK.hidden, FILE_MARK.readOnly | FILE_MARK.hidden, 0];
    for (const [index, { id }] of rows.entries()) await bench.pool.query("update copies set marks = $2 where id = $1", [id, marks[index]]);
    const plan = planTo("Marked", { streams: "beside" });
    const { readOnly, hidden } = await rehearse(bench.db, jobId, plan);
    expect([readOnly, hidden]).toEqual([0, 0]);
    const done = await restored("Marked", { streams: "beside" });
    for (const [index, { id }] of rows.entries()) {
      const result = done.results.find(({ copyId, path }) => copyId === Number(id) && !/ \[/.test(path));
      const bits = marks[index] as number;
      expect((lstatSync(result?.output as string).mode & 0o222) === 0).toBe((bits & FILE_MARK.readOnly) !== 0);
      expect(result?.leftBehind).toEqual((bits & FILE_MARK.hidden) !== 0 ? ["its mark “hidden”"] : null);
    }
  });
});
