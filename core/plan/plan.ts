import { formOf, type PassPlace, passKind } from "../copies/pass-kinds";
import type { Place } from "../copies/vocabulary";
import { type Account, isEmpty } from "./account";
import { BIN_ANYWAY, CAUSE_RULES, type Line, NOT_ON } from "./rules";
import { type Chance, STEPS, type StepKind } from "./steps";

/** What is known of a volume that could be searched. */
export interface PlanVolume {
  readonly id: number;
  readonly label: string;
  readonly filesystem: string;
  /** Bytes; of a folder whose content was not counted yet, 0. */
  readonly length: number;
  readonly usedBytes: number | null;
  readonly readable: boolean;
  /** Why its content stays closed; null: it does not. */
  readonly closed: string | null;
  readonly standing: "present" | "lost" | "earlier";
  /** Profiles of users found on it, those of a previous system among them. */
  readonly profiles: number;
  /** It is the part of a drive on which the system keeps its own files, apart from those of users. */
  readonly ofSystem: boolean;
}

export interface PlanSource {
  readonly id: number;
  readonly name: string;
  /** A folder of the bench, whose deleted records cannot be read. */
  readonly folder: boolean;
  readonly volumes: readonly PlanVolume[];
}

/** How fast passes were so far: milliseconds for each byte of the volume, by the pass's kind of place. */
export type Speeds = Readonly<Record<string, number>>;

export interface PlanStep {
  /** Names the step within its job, whatever the account says later. */
  readonly key: string;
  readonly kind: StepKind;
  readonly title: string;
  readonly sourceId: number | null;
  readonly storeId: number | null;
  /** Where, in words. */
  readonly where: string;
  readonly reason: string;
  readonly chance: Chance;
  readonly chanceReason: string;
  /** Seconds; null: it is done by hand, or its size is not known. */
  readonly seconds: number | null;
  readonly cannotFind: string;
  /** The pass that does it; null: the technician does. */
  readonly pass: { readonly place: PassPlace; readonly options: { readonly places?: readonly Place[]; readonly unused?: boolean } } | null;
}

export interface Plan {
  readonly steps: readonly PlanStep[];
  /** What is advised against, in words. */
  readonly against: readonly string[];
  /** What must be known before anything else, in words: no source, encrypted volumes. */
  readonly warnings: readonly string[];
}

/** Milliseconds a pass over so many bytes of a volume takes: the one way to estimate it, for the plan and wherever else it is reported. */
export const timeFor = (place: PassPlace, bytes: number, speeds: Speeds): number => bytes * (speeds[place] ?? passKind(place).usualSpeed);

/** The bytes of a volume a step reads, or that its time goes by: a sweep keeps to what is not in use. */
const bytesRead = (place: PassPlace, { length, usedBytes, readable }: PlanVolume): number =>
  passKind(place).needs === "bytes" && readable && usedBytes !== null ? Math.max(1, length - usedBytes) : length;

const GROUP: readonly StepKind[] = ["image", "profiles", "backups", "cloud"];
/** Asked of the client as long as there is nothing to read them on. */
const ASKED_FIRST: readonly StepKind[] = ["snapshots"];

/**
 * The search plan for what was lost: steps in the order in which they are worth doing. Facts that are missing widen it and never
 * break it: without a cause it is the plan for an unknown one.
 */
export function makePlan(
  accounts: readonly Account[],
  sources: readonly PlanSource[],
  speeds: Speeds = {},
  added: readonly StepKind[] = [],
): Plan {
  const filled = accounts.filter((account) => !isEmpty(account));
  const each = filled.length > 0 ? filled : accounts.slice(0, 1);
  const steps = new Map<string, PlanStep>();
  const against = new Set<string>();
  for (const account of each) {
    const rule = CAUSE_RULES[account.cause ?? "unknown"];
    for (const line of withBin(rule.steps))
      for (const step of place(line, account, sources, speeds)) if (!steps.has(step.key)) steps.set(step.key, step);
    for (const [what, why] of rule.against) against.add(`${AGAINST[what] ?? STEPS[what as StepKind].title}: ${why}`);
  }
  for (const kind of added) {
    const line: Line = [kind, "low", "Added by the technician."];
    for (const step of place(line, each[0] ?? null, sources, speeds)) if (!steps.has(step.key)) steps.set(step.key, step);
  }
  return { steps: [...steps.values()], against: [...against], warnings: warningsOf(sources) };
}

/** The steps of a cause, with the bin before the first that reads records or more. */
function withBin(lines: readonly Line[]): readonly Line[] {
  if (lines.some(([kind]) => kind === "bin")) return lines;
  const at = lines.findIndex(([kind]) => COSTLY.includes(kind));
  return at < 0 ? [...lines, BIN_ANYWAY] : [...lines.slice(0, at), BIN_ANYWAY, ...lines.slice(at)];
}
const COSTLY: readonly StepKind[] = ["file-records", "leftover-records", "raw"];

/** Bytes up to which a volume beside a larger one is taken for one of the system's own (starting, recovery). Common practice, no published source. */
const SYSTEM_SIZE = 1.5 * 2 ** 30;

/** Whether a volume is one that users keep nothing on. */
function isSystems(volume: PlanVolume, source: PlanSource): boolean {
  if (volume.ofSystem) return true;
  return (
    volume.profiles === 0 &&
    volume.length > 0 &&
    volume.length <= SYSTEM_SIZE &&
    source.volumes.some((other) => other.standing === "present" && other.length >= 4 * volume.length)
  );
}

/** The volumes of all sources: those of users first, then the system's own, then earlier ones. */
function volumesInOrder(sources: readonly PlanSource[]): { source: PlanSource; volume: PlanVolume }[] {
  const rank = (source: PlanSource, volume: PlanVolume) => (volume.standing === "earlier" ? 2 : isSystems(volume, source) ? 1 : 0);
  return sources
    .flatMap((source) => source.volumes.map((volume) => ({ source, volume })))
    .map((each, index) => ({ each, index, rank: rank(each.source, each.volume) }))
    .sort((a, b) => a.rank - b.rank || a.index - b.index)
    .map(({ each }) => each);
}

const AGAINST: Readonly<Record<string, string>> = { use: "Using the drive", raw: "Searching raw content" };

/** The steps a line of the table means on the sources at hand. */
function* place([kind, chance, why]: Line, account: Account | null, sources: readonly PlanSource[], speeds: Speeds): Generator<PlanStep> {
  const facts = STEPS[kind];
  if (account?.system && NOT_ON[account.system].includes(kind)) return;
  const shared = { kind, title: facts.title, cannotFind: facts.cannotFind, reason: why };
  const passPlace = facts.by;
  if (passPlace === "hand" || GROUP.includes(kind) || (ASKED_FIRST.includes(kind) && sources.length === 0)) {
    const found = kind === "profiles" ? sources.flatMap((source) => source.volumes).reduce((sum, volume) => sum + volume.profiles, 0) : 0;
    const seen = found > 0 ? `${found} profile${found === 1 ? "" : "s"} found so far: see Sources.` : "By hand.";
    yield {
      ...shared,
      key: kind,
      sourceId: null,
      storeId: null,
      where: WHERE[kind] ?? "",
      chance,
      chanceReason: seen,
      seconds: null,
      pass: null,
    };
    return;
  }
  for (const { source, volume } of volumesInOrder(sources)) {
    const form = formOf(source.folder ? "folder" : "image", volume.filesystem);
    const { needs, on } = passKind(passPlace);
    if (volume.closed || (!volume.readable && needs === "records") || !on.includes(form)) continue;
    const judged = form === "backup" ? { chance, chanceReason: USUAL[chance] } : judge(kind, chance, account, source, volume);
    yield {
      ...shared,
      ...(form === "backup" && kind === "file-records" ? { title: "The backup file, as far as it can be followed" } : {}),
      key: `${kind}:${volume.id}`,
      sourceId: source.id,
      storeId: volume.id,
      where: source.folder ? source.name : `${volume.label} on ${source.name}`,
      ...judged,
      seconds: volume.length > 0 ? Math.max(1, Math.round(timeFor(passPlace, bytesRead(passPlace, volume), speeds) / 1000)) : null,
      pass: {
        place: passPlace,
        options: facts.places.length > 0 ? { places: facts.places } : needs === "bytes" && volume.readable ? { unused: true } : {},
      },
    };
  }
}

const WHERE: Partial<Record<StepKind, string>> = {
  image: "the failing drive, before anything else",
  profiles: "Sources, under each volume",
  snapshots: "the client’s own computer",
  backups: "disks and folders the client has",
  cloud: "the client’s account",
};

const DELETED: readonly StepKind[] = ["file-records", "leftover-records"];

/** What is known of the drive moves the chance of finding what was deleted. */
function judge(
  kind: StepKind,
  chance: Chance,
  account: Account | null,
  source: PlanSource,
  volume: PlanVolume,
): Pick<PlanStep, "chance" | "chanceReason"> {
  if (source.folder && kind === "file-records")
    return { chance: "low", chanceReason: "A folder shows live files only; deleted ones need an image of the drive." };
  if (volume.standing === "earlier") return { chance: "low", chanceReason: "An earlier volume: later ones have written over part of it." };
  if (!DELETED.includes(kind)) return { chance, chanceReason: USUAL[chance] };
  if (account?.drive === "solid-state" && account.system !== "card")
    return {
      chance: "low",
      chanceReason: "A solid-state drive erases deleted bytes by itself, often within minutes: names are found, content seldom.",
    };
  if (account?.usedSince === "much")
    return { chance: chance === "good" ? "fair" : "low", chanceReason: "The drive was used a lot since: some of it will be overwritten." };
  if (account?.usedSince === "no") return { chance, chanceReason: "The drive was not used since: nothing has been overwritten by it." };
  return { chance, chanceReason: USUAL[chance] };
}

const USUAL: Readonly<Record<Chance, string>> = {
  good: "Usually found here.",
  fair: "Often found here.",
  low: "Seldom found here, but it costs little to look.",
};

function warningsOf(sources: readonly PlanSource[]): string[] {
  if (sources.length === 0) return ["No source yet: add the image or folder of the drive, and the plan gets its places."];
  const volumes = sources.flatMap((source) => source.volumes.map((volume) => ({ source, volume })));
  return volumes.flatMap(({ source, volume }) => (volume.closed ? [`${volume.label} on ${source.name} is closed: ${volume.closed}`] : []));
}
