import { createHash } from "node:crypto";
import { type AdviceFacts, adviceFor } from "../../core/plan/advice";
import { version } from "../../package.json";
import { paragraph } from "../accounts/contract";
import { ACCOUNT_CHANGED, findAccounts } from "../accounts/queries";
import type { Connection } from "../database/connection";
import type { JobSummary } from "../jobs/contract";
import { findJob } from "../jobs/queries";
import { listLog } from "../log/queries";
import { findsAlone, type Pass, passWords } from "../passes/contract";
import { listPasses } from "../passes/queries";
import { activeRules } from "../places/queries";
import type { Plan } from "../plan/contract";
import { findPlan } from "../plan/queries";
import { Problem } from "../problem";
import type { Result } from "../restores/contract";
import { allResults, listRestores } from "../restores/queries";
import type { Source } from "../sources/contract";
import { listSources } from "../sources/queries";
import {
  bytesText,
  countText,
  FILE_SYSTEM_WORDS,
  fromMemoryText,
  leftBehindText,
  momentText,
  narrowedWords,
  placeText,
  resultText,
} from "../words/contract";
import type { Audience, Block, Handover } from "./contract";
import { entryText, plainResult, restoreText } from "./describe";

const sha256 = (text: string): string => createHash("sha256").update(text).digest("hex");

/**
 * Everything a handover holds, gathered once for all its forms.
 * @param ended a restore that ends with this report in its package: it is done then
 */
export async function gatherReport(db: Connection, jobId: number, ended: number | null = null) {
  const job = await findJob(db, jobId);
  if (!job) throw new Problem("There is no such job.", 404);
  const [accounts, plan, sources, passes, log] = await Promise.all([
    findAccounts(db, jobId),
    findPlan(db, jobId),
    listSources(db, jobId),
    listPasses(db, jobId),
    listLog(db, jobId),
  ]);
  // What became of restored files since is looked at before the sums are made.
  for (const { id } of await listRestores(db, jobId)) for await (const _ of allResults(db, id));
  const restores = (await listRestores(db, jobId)).map((restore) => ({
    ...restore,
    ...(restore.id === ended ? { state: "done" as const, finishedAt: new Date() } : {}),
    results: () => allResults(db, restore.id),
  }));
  const rules = await activeRules(db);
  const program = { name: "Tidy Compass", version, rules: rules.length, rulesSha256: sha256(JSON.stringify(rules)) };
  const logHash = log[log.length - 1]?.hash ?? null;
  return { program, job, accounts, plan, sources, passes, restores, log, logHash, now: new Date() };
}
export type Report = Awaited<ReturnType<typeof gatherReport>>;
/** A restore with a way to go through its results. */
type ReportedRestore = Report["restores"][number];

/** A block whose rows come one by one: there may be hundreds of thousands. */
interface Rows {
  readonly kind: "rows";
  readonly head: readonly string[];
  rows(): AsyncIterable<string[]>;
}
export interface HandoverDocument {
  readonly title: string;
  readonly lead: readonly string[];
  readonly sections: readonly { readonly title: string; readonly blocks: readonly (Block | Rows)[] }[];
}

const text = (words: string): Block => ({ kind: "text", text: words });
const list = (items: readonly (string | { text: string; below: string[] })[]): Block => ({
  kind: "list",
  items: items.map((item) => (typeof item === "string" ? { text: item, below: [] } : item)),
});

/** The handover as text, for the client or for the file. */
export function describeHandover(report: Report, audience: Audience): HandoverDocument {
  const { job, accounts, plan, sources, passes, restores, log, now } = report;
  const zone = job.timeZone;
  const forWhom = [
    job.client && `For ${job.client}.`,
    job.number && `Job ${job.number}.`,
    job.technician && `Technician: ${job.technician}.`,
    job.firm,
  ];
  const sections: HandoverDocument["sections"] = [
    { title: "What was lost", blocks: accounts.map((account) => text(paragraph(account, zone))) },
    { title: "How it was looked for", blocks: looked(plan) },
    { title: "What was searched", blocks: searched(sources, passes) },
    { title: "What was found", blocks: found(job) },
    {
      title: "What was restored",
      blocks: restores.length === 0 ? [text("Nothing has been restored yet.")] : restores.flatMap((each) => restored(each, zone, audience)),
    },
    ...(audience === "client"
      ? [{ title: "What to do now", blocks: [list(adviceFor(adviceFacts(report)))] }]
      : [
          {
            title: "What was done",
            blocks: [list(withoutRepeats(log).map((entry) => `${momentText(entry.at, zone)}: ${entryText(entry)}`)), ...chainText(report)],
          },
        ]),
    {
      title: audience === "client" ? "Received" : "Signed",
      blocks: [
        {
          kind: "signature",
          lines: audience === "client" ? ["Date", "Client", job.technician || "Technician"] : ["Date", job.technician || "Technician"],
        },
      ],
    },
  ];
  return {
    title: job.title,
    lead: [forWhom.filter(Boolean).join(" "), `As of ${momentText(now, zone)}; all times are ${zone}.`].filter(Boolean),
    sections,
  };
}

/** An account is saved while it is typed: of savings that follow one another only the last is listed. */
const withoutRepeats = (log: Report["log"]): Report["log"] =>
  log.filter(({ what }, index) => what !== ACCOUNT_CHANGED || log[index + 1]?.what !== ACCOUNT_CHANGED);

/** By what the log can be checked, and what wrote all this. */
function chainText({ logHash, program }: Report): Block[] {
  const { name, version: own, rules, rulesSha256 } = program;
  return [
    ...(logHash
      ? [
          text(
            `Each entry of this log carries a hash over the one before it. The last one is ${logHash}; the handover as data (JSON) has all of them.`,
          ),
        ]
      : []),
    text(`Written by ${name} ${own}, with ${countText(rules)} rules of known places (SHA-256 ${rulesSha256}).`),
  ];
}

function looked(plan: Plan): Block[] {
  const said = ({ state, note, found: finds }: Plan["steps"][number]) => {
    if (state === "done")
      return finds.length > 0 ? `done, ${countText(finds.reduce((sum, each) => sum + each.count, 0))} found` : (note ?? "done");
    const words = state === "to do" ? "not done" : state;
    return note ? `${words}: ${note}` : words;
  };
  const sought = plan.found ? [text(`What was looked for is found: ${`${plan.found.folder}/${plan.found.name}`.slice(1)}.`)] : [];
  return [
    ...sought,
    list(
      plan.steps.map((step) =>
        [step.title, step.where]
          .filter(Boolean)
          .join(", ")
          .concat(`: ${said(step)}`),
      ),
    ),
  ];
}

const PASS_STATES: Record<Pass["state"], string> = {
  queued: "waiting",
  running: "still being read",
  paused: "paused before its end",
  stopped: "stopped before its end",
  done: "read to the end",
  failed: "could not be read to the end",
};

function searched(sources: readonly Source[], passes: readonly Pass[]): Block[] {
  if (sources.length === 0) return [text("No drive or image has been looked at yet.")];
  return [
    list(
      sources.map((source) => {
        const bad = source.unreadable.reduce((sum, { start, end }) => sum + end - start, 0);
        const size = source.size > 0 ? `, ${bytesText(source.size)}` : "";
        return {
          text: `${source.name}${size}${insideText(source)}. It was opened for reading only.${bad > 0 ? ` ${countText(bad)} bytes of it could not be read.` : ""}`,
          below: source.volumes.map((volume) => {
            const own = passes.filter((pass) => pass.storeId === volume.id);
            const length = volume.length > 0 ? `, ${bytesText(volume.length)}` : "";
            const name = `${volume.label ?? `volume ${volume.number}`} (${FILE_SYSTEM_WORDS[volume.filesystem] ?? volume.filesystem}${length})`;
            if (own.length === 0) return `${name}: not searched${volume.readable ? "" : "; its records cannot be read"}.`;
            return `${name}: ${own.map(passText).join("; ")}.${unreadText(volume)}`;
          }),
        };
      }),
    ),
  ];
}

/** Where a disk lies that was found inside others. */
const insideText = ({ within }: Source) =>
  within.length === 0
    ? ""
    : `, found in the file ${within
        .map((file) => file.slice(1))
        .reverse()
        .join(", which lies in ")}`;

/** What of a folder could not be read: a reader must not take its search for a whole one. */
function unreadText({ filesystem, findings }: Source["volumes"][number]): string {
  if (filesystem !== "folder" || findings.length === 0) return "";
  const words = findings.map(({ what, count, examples }) => {
    const more = count > examples.length ? "; …" : "";
    return `${countText(count)} × ${what.replace(/\.$/, "")} (${examples.join("; ")}${more})`;
  });
  return ` Not read in it: ${words.join(", ")}.`;
}

function passText({ place, form, options, state, foundLost, problem }: Pass): string {
  const what = [passWords(place, form).noun, narrowedWords(options)].filter(Boolean).join(", ");
  return `${what}, ${PASS_STATES[state]}, ${countText(foundLost)} ${findsAlone(place, form) ? "found" : "lost files found"}${problem ? ` (${problem})` : ""}`;
}

/** Lost files by what is left of them: a name alone is no file one could give back. */
export function found({ lostItems }: Pick<JobSummary, "lostItems">): Block[] {
  const { whole, partial } = lostItems;
  const [unsure, names] = [lostItems["not-checked"], lostItems["name-only"]];
  const content = whole + partial + unsure;
  if (content + names === 0) return [text("No lost files were found in what has been searched.")];
  return [
    text(
      `${countText(content)} lost ${content === 1 ? "file was" : "files were"} found with something left of ${content === 1 ? "its" : "their"} content:`,
    ),
    list([
      `${countText(whole)} whole: nothing speaks against any of their bytes`,
      `${countText(partial)} in part`,
      `${countText(unsure)} whose content could not be checked`,
    ]),
    text(`Of ${countText(names)} more only the name is known.`),
  ];
}

function restored(restore: ReportedRestore, zone: string, audience: Audience): (Block | Rows)[] {
  const when = momentText(restore.finishedAt ?? restore.createdAt, zone);
  const marks = [
    "Files marked “verified” were read again from there and are the same, byte for byte, as what was found.",
    ...(restore.counts.gaps > 0
      ? [
          `Those marked “with gaps” were read again as well, but some of their bytes could not be had: there stand zeros${restore.asFound ? ", or what other files have written there since" : ""}.`,
        ]
      : []),
    ...(restore.counts.leftBehind > 0
      ? [
          `With ${countText(restore.counts.leftBehind)} of them something beside the content could not go along (named streams, marks)${audience === "file" ? "; the remark says what" : ""}.`,
        ]
      : []),
    ...(restore.counts.fromMemory > 0 ? [fromMemoryText(restore.counts)] : []),
  ];
  return [
    text(`${when}, to the folder ${placeText(restore)}. ${restoreText(restore)} ${marks.join(" ")}`),
    audience === "client"
      ? { kind: "rows", head: ["File", "Result"], rows: () => rowsOf(restore, (result) => [result.path.slice(1), plainResult(result)]) }
      : {
          kind: "rows",
          head: ["File", "Result", "Bytes", "SHA-256, read again", "Written to", "Remark"],
          rows: () =>
            rowsOf(restore, (result) => [
              result.path.slice(1),
              resultText(result),
              countText(result.size),
              result.state === "verified" || result.state === "gaps" || result.state === "same" ? (result.sha256 ?? "") : "",
              result.output ?? "",
              [result.problem, leftBehindText(result), result.aside && `What was there before is kept as ${result.aside}.`]
                .filter(Boolean)
                .join(" "),
            ]),
        },
  ];
}

async function* rowsOf(restore: ReportedRestore, row: (result: Result) => string[]): AsyncGenerator<string[], void, void> {
  for await (const result of restore.results()) yield row(result);
}

/** What the advice goes by: the causes, drives of which something could not be read, and backups, where they were looked for. */
function adviceFacts({ accounts, sources, passes, restores, job }: Report): AdviceFacts {
  const all = sources.flatMap(({ volumes }) => volumes).flatMap(({ label, sets }) => sets.map((set) => ({ label, set })));
  const last = (moment: number | null) =>
    moment === null ? null : new Date(moment).toLocaleDateString("en-GB", { timeZone: job.timeZone, dateStyle: "long" });
  return {
    causes: accounts.flatMap(({ cause }) => (cause ? [cause] : [])),
    restored: restores.some(({ counts }) => counts.verified + counts.gaps + counts.same > 0),
    placed: restores.some(({ counts }) => counts.placed > 0),
    failing: sources.filter(({ unreadable }) => unreadable.length > 0).map(({ name }) => name),
    sets: passes.some(({ place, state }) => place === "earlier-states" && state === "done")
      ? all.map(({ label, set }) => ({ where: label ?? set.root, last: last(set.last) }))
      : null,
  };
}

/** Rows of one table that a page on the screen has at most. */
const MOST_ON_SCREEN = 2000;

/** The handover as the screen shows it; long tables are cut, and say so. */
export async function handoverOf(document: HandoverDocument): Promise<Handover> {
  const sections = [];
  for (const { title, blocks } of document.sections) {
    const shown: Block[] = [];
    for (const block of blocks) shown.push(block.kind === "rows" ? await tableOf(block) : block);
    sections.push({ title, blocks: shown });
  }
  return { title: document.title, lead: [...document.lead], sections };
}

async function tableOf({ head, rows }: Rows): Promise<Block> {
  const shown: string[][] = [];
  for await (const row of rows()) {
    if (shown.length >= MOST_ON_SCREEN)
      return {
        kind: "table",
        head: [...head],
        rows: shown,
        cut: `The first ${countText(MOST_ON_SCREEN)} are shown here; the file to download has all of them.`,
      };
    shown.push(row);
  }
  return { kind: "table", head: [...head], rows: shown, cut: null };
}
