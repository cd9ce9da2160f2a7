/** Which volume of a container is meant, and as of when: "2", "2/snapshot/417", "2/checkpoint/399". Numbers are those of the container. */
export interface View {
  /** null: the first there is. */
  readonly index: number | null;
  readonly kind: "snapshot" | "checkpoint" | null;
  readonly xid: number;
}

export function parseView(view: string | null): View {
  const found = /^(\d{1,3})(?:\/(snapshot|checkpoint)\/(\d{1,16}))?$/.exec(view ?? "");
  if (!found) return { index: null, kind: null, xid: 0 };
  const [, index, kind, xid] = found;
  return { index: Number(index), kind: (kind as View["kind"] | undefined) ?? null, xid: Number(xid ?? 0) };
}

export const writeView = (index: number, kind: "snapshot" | "checkpoint" | null = null, xid = 0): string =>
  kind === null ? String(index) : `${index}/${kind}/${xid}`;
