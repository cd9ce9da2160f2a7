import { readFileSync, statSync } from "node:fs";
import { basename } from "node:path";
import { z } from "zod";
import { type Account, CAUSES, DRIVES, EMPTY_ACCOUNT, LOST_KINDS, type Moment, SYSTEMS, USED_SINCE } from "../core/plan/account";
import { makePlan, type PlanSource } from "../core/plan/plan";
import { roughMoment } from "../core/plan/rough-time";
import { openVolume, type VolumeReport } from "../core/volumes/inspect";
import { FolderSource } from "../io/folder-source";
import { openSource } from "../io/open-source";
import type { Options } from "./options";
import { flush, line, say } from "./output";
import { EXIT, Usage } from "./usage";

const keysOf = <K extends string>(table: Record<K, string>) => z.enum(Object.keys(table) as [K, ...K[]]);
const moment = z.union([z.string().min(1), z.object({ text: z.string(), from: z.number().nullable(), to: z.number().nullable() })]);
const planInput = z
  .strictObject({
    kinds: z.array(keysOf(LOST_KINDS)),
    nameHint: z.string().nullable(),
    extension: z.string().nullable(),
    contained: z.string().nullable(),
    count: z.number().int().positive().nullable(),
    system: keysOf(SYSTEMS).nullable(),
    drive: keysOf(DRIVES).nullable(),
    folder: z.string().nullable(),
    userName: z.string().nullable(),
    lastSeen: moment.nullable(),
    lastSaved: moment.nullable(),
    lost: moment.nullable(),
    cause: keysOf(CAUSES).nullable(),
    tried: z.string().nullable(),
    usedSince: keysOf(USED_SINCE).nullable(),
  })
  .partial();

/** `compass plan`: where to look for what was lost, a line a step. The sources may be images and folders. */
export function plan(positionals: readonly string[], options: Options): number {
  const accounts = readAccounts(options.account);
  const made = makePlan(accounts, positionals.map(sourceOf));
  for (const warning of made.warnings) say(warning);
  for (const { pass, sourceId, storeId, ...step } of made.steps) {
    const source = positionals[sourceId ?? -1] ?? null;
    const volume = storeId === null ? null : storeId % MOST_VOLUMES;
    line(
      options.json,
      { ...step, source, volume, pass },
      `${step.title}, ${step.where}\t${step.chance}\t${step.seconds === null ? "by hand" : `about ${step.seconds} s`}\n  ${step.reason}`,
    );
  }
  for (const words of made.against) say(`Advised against: ${words}`);
  flush();
  return EXIT.done;
}

/** Volumes are distinguished by one number over all sources. */
const MOST_VOLUMES = 100_000;

function readAccounts(file: string | undefined): Account[] {
  if (file === undefined) return [EMPTY_ACCOUNT];
  let value: unknown;
  try {
    value = JSON.parse(readFileSync(file, "utf8"));
  } catch (error) {
    throw new Usage(`${file} cannot be read as JSON: ${(error as Error).message}`);
  }
  const parsed = z.array(planInput).safeParse(Array.isArray(value) ? value : [value]);
  if (!parsed.success) {
    const [issue] = parsed.error.issues;
    throw new Usage(`${file}: ${issue?.path.slice(1).join(".") || "the account"}: ${issue?.message}`);
  }
  return parsed.data.map(
    ({ lost, lastSaved, lastSeen, ...rest }) =>
      ({
        ...EMPTY_ACCOUNT,
        ...rest,
        lost: meant(lost),
        lastSaved: meant(lastSaved),
        lastSeen: meant(lastSeen),
      }) as Account,
  );
}

function meant(value: z.infer<typeof moment> | null | undefined): Moment | null {
  if (!value) return null;
  if (typeof value !== "string") return value;
  return roughMoment(value, Date.now()) ?? { text: value, from: null, to: null };
}

function sourceOf(path: string, id: number): PlanSource {
  if (statSync(path, { throwIfNoEntry: false })?.isDirectory()) {
    const { label } = new FolderSource(path);
    const volume = {
      id: id * MOST_VOLUMES,
      label,
      filesystem: "folder",
      length: 0,
      usedBytes: null,
      readable: true,
      closed: null,
      standing: "present" as const,
      profiles: 0,
      ofSystem: false,
    };
    return { id, name: label, folder: true, volumes: [volume] };
  }
  const source = openSource(path);
  try {
    const volumes = source.report.volumes.map((report) => ({
      id: id * MOST_VOLUMES + report.volume,
      label: report.label ?? `volume ${report.volume}`,
      filesystem: report.filesystem,
      length: report.length,
      usedBytes: null,
      readable: opens(source.disk, report),
      closed: report.closed,
      standing: report.standing,
      profiles: 0,
      ofSystem: report.identity?.part === "system",
    }));
    return { id, name: basename(path), folder: false, volumes };
  } finally {
    source.close();
  }
}

function opens(disk: Parameters<typeof openVolume>[0], report: VolumeReport): boolean {
  try {
    openVolume(disk, report);
    return true;
  } catch {
    return false;
  }
}
