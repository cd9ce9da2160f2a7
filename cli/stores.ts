import { listStores, type Store } from "../io/stores";
import { isoText } from "./iso-text";
import type { Options } from "./options";
import { flush, line, oneSource, say } from "./output";
import { EXIT } from "./usage";

/** `compass stores`: a line a store, those inside others after them. */
export function stores(positionals: readonly string[], options: Options): number {
  let problems = false;
  const all = listStores({ sourcePath: oneSource(positionals), beside: options.beside }, options.deep ?? false, options.thorough ?? false);
  for (let next = all.next(); ; next = all.next()) {
    if (next.done) {
      if (!next.value) say("These are not all: more disks lie in this source, or deeper ones, than are listed.");
      problems ||= !next.value;
      break;
    }
    const store = next.value;
    problems ||= store.closed !== null;
    line(options.json, asJson(store), asWords(store));
    flush();
  }
  return problems ? EXIT.problems : EXIT.done;
}

/** A store as the contract of the command line has it. */
function asJson({ id, parent, kind, label, set, machine, user, asOf, volume, closed, notes }: Store): Record<string, unknown> {
  return {
    store: id,
    parent,
    kind,
    label,
    set,
    machine,
    user,
    asOf: asOf === null ? null : isoText(asOf),
    closed,
    ...(volume
      ? { volume: volume.volume, filesystem: volume.filesystem, standing: volume.standing, offset: volume.offset, length: volume.length }
      : {}),
    notes,
  };
}

function asWords({ id, kind, label, volume, closed }: Store): string {
  const standing = volume && volume.standing !== "present" ? ` (${volume.standing})` : "";
  const what = volume ? `${volume.filesystem}${standing}, ${volume.length} bytes` : kind;
  return `${id}\t${what}\t${label ?? ""}${closed ? `\tclosed: ${closed}` : ""}`;
}
