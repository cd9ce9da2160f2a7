import { sql } from "drizzle-orm";
import { conditionOf, type Evidence, explain } from "../../core/copies/copy";
import { examineContent } from "../../core/formats/registry";
import { isProvenWay } from "../../io/inner-file";
import type { Connection } from "../database/connection";
import { withContent } from "../previews/content";
import { findStoredCopy } from "./queries";

/** What looking at a live copy's content came to. */
export interface Judgement {
  readonly copyId: number;
  readonly condition: string;
  readonly survival: number;
  readonly evidence: Evidence;
  /** What should be known of it, beside what is noted already. */
  readonly notes: readonly string[];
}

/**
 * Looks at the content of a copy that nobody has looked at yet and derives its condition anew. The records of a live file vouch for its
 * place, not for its content.
 * @returns null where there is nothing to look at
 */
export async function judgeContent(db: Connection, copyId: number): Promise<Judgement | null> {
  const copy = await findStoredCopy(db, copyId);
  const { layout } = copy ?? {};
  if (!copy || !layout || copy.size === 0) return null;
  const { rows } = await db.execute<{ evidence: Evidence; state: "live" | "deleted"; type: "file" | "folder" }>(
    sql`select evidence, state, type from copies where id = ${copyId}`,
  );
  const [row] = rows;
  if (!row || row.evidence.content !== null) return null;
  return withContent(copy, (content) => {
    const found = examineContent(content, copy.name);
    const refused = content.unreadable(0, content.size).reduce((sum, { start, end }) => sum + end - start, 0);
    const evidence: Evidence = { ...row.evidence, unreadable: Math.max(0, refused - row.evidence.lost), content: found };
    const { condition, survival } = conditionOf(
      { type: row.type, size: copy.size, state: row.state, layout },
      evidence,
      !isProvenWay(copy.within),
    );
    return { copyId, condition, survival, evidence, notes: explain(evidence) };
  });
}
