import type { Copy } from "../../core/copies/copy";
import type { Condition } from "../../core/copies/vocabulary";
import { seeded } from "../../demo/draw";
import { setKey } from "../../server/passes/copy-rows";
import type { TestBench } from "./bench";
import { jobWith } from "./bench";
import { copyAt } from "./copies";
import { storeBatch } from "./stored";

export const DAY = 86_400_000;
export const START = Date.parse("2026-01-01T00:00:00Z");
export const SETS = ["/one", "/two", "/three"].map((root) => JSON.stringify(["dated-trees", root, null, null]));
/** The conditions, the best first. */
export const CONDITIONS = ["whole", "partial", "not-checked", "name-only"];

/** What the orders of a list go by. */
export interface Values {
  readonly size: number;
  readonly modified: number | null;
  readonly survival: number;
  readonly condition: Condition;
}

export const KEYS = {
  size: ({ size }: Values) => size,
  changed: ({ modified }: Values) => modified ?? Number.NEGATIVE_INFINITY,
  condition: ({ survival }: Values) => survival,
} as const;

/** A file as it was drawn, and the item it became. */
export interface DrawnFile {
  readonly id: number;
  readonly now: Values;
  readonly copies: readonly Copy[];
}

/** A lot of files drawn by lot: what their drive has of each, and versions of it in three sets. @param number of files */
function drawFiles(seed: number, number: number): Copy[][] {
  const random = seeded(seed);
  const below = (most: number) => Math.floor(random() * most);
  /** Sizes of which many are the same. */
  const sizeOf = () => (random() < 0.4 ? 0 : below(300) * 1000);
  /** A date that no other copy of its file has, so that which of two is first is plain; sometimes none. */
  const dateOf = (turn: number) => (turn === 0 && random() < 0.05 ? null : START - below(900) * DAY - turn);
  const condition = (): Condition => (random() < 0.7 ? "whole" : random() < 0.5 ? "partial" : "not-checked");

  function drawFile(name: string): Copy[] {
    const path = `/Users/anna/Box ${below(40)}/${name}`;
    const copies: Copy[] = [];
    const add = (facts: Partial<Copy>) => {
      const turn = copies.length;
      copies.push(
        copyAt(path, {
          size: sizeOf(),
          modified: dateOf(turn),
          condition: condition(),
          survival: below(5) / 4,
          reference: `${name} ${turn}`,
          created: START - 1000 * DAY,
          ...facts,
        }),
      );
    };
    const drive = random();
    if (drive < 0.35) add({ state: "live" });
    else if (drive < 0.6) add({ state: "deleted", deletedAt: random() < 0.5 ? START + below(300) * DAY : null });
    else if (drive < 0.65) add({ state: "live", place: "raw", deletedAt: START + below(300) * DAY });
    for (const set of SETS) {
      let from = below(200);
      for (let left = below(3); left > 0; left -= 1) {
        const until = left === 1 && random() < 0.5 ? null : from + 1 + below(60);
        // Often what the drive has, too.
        const same = copies[0] && random() < 0.4 ? { size: copies[0].size, modified: copies[0].modified } : {};
        add({
          place: "backup",
          state: "live",
          set,
          sameAs: `${name} ${copies.length}`,
          present: { from: START + from * DAY, until: until === null ? null : START + until * DAY },
          ...(until !== null && random() < 0.1 ? { movedTo: `${path} elsewhere` } : {}),
          ...same,
        });
        if (until === null) break;
        from = until + 1 + below(20);
      }
    }
    if (copies.length === 0) add({ state: "live" });
    return copies;
  }
  return Array.from({ length: number }, (_, index) => drawFile(`file ${index}.txt`));
}

/** Stores drawn files as what a pass found on a volume with three backup sets. */
export async function storeDrawnFiles(
  bench: TestBench,
  seed: number,
  number: number,
): Promise<{ jobId: number; storeId: number; files: DrawnFile[] }> {
  const { jobId, source } = await jobWith(bench, "fat12");
  const storeId = source.volumes[0]?.id as number;
  const drawn = drawFiles(seed, number);
  await storeBatch(bench, jobId, storeId, "earlier-states", drawn.flat());
  const facts = SETS.map((id, index) => ({ id, kind: "dated-trees", machine: `machine ${index}`, user: null, root: "/" }));
  await bench.pool.query("update stores set sets = $1 where id = $2", [JSON.stringify(facts), storeId]);
  // As the database does by itself some time after.
  await bench.pool.query("analyze items; analyze copies");
  const { rows } = await bench.pool.query(
    "select id, name, size, modified, survival, condition from items where job_id = $1 and name like 'file %'",
    [jobId],
  );
  const byName = new Map(rows.map((row) => [row.name as string, row]));
  const files = drawn.map((copies) => {
    const row = byName.get(copies[0]?.name ?? "");
    const modified = row.modified === null ? null : (row.modified as Date).getTime();
    return { id: Number(row.id), now: { ...row, size: Number(row.size), modified }, copies };
  });
  return { jobId, storeId, files };
}

/** Sets as the address of a list has them. */
export const inAddress = (storeId: number, sets: readonly string[]) => sets.map((set) => `${storeId}-${setKey(set)}`).join(",");
