import { type ChildProcess, fork } from "node:child_process";
import { existsSync, readFileSync } from "node:fs";
import { setPriority } from "node:os";
import { join } from "node:path";
import { processorTimeOf } from "../../io/processor-time";
import { SourceError } from "../../io/source-error";
import { Problem } from "../problem";
import type { Tasks } from "./tasks";

export type TaskName = keyof Tasks;
export type TaskResult<N extends TaskName> = Awaited<ReturnType<Tasks[N]>>;

/** What a process is asked. */
export interface TaskRequest {
  readonly task: string;
  readonly args: readonly unknown[];
}
/** What it answers. Errors a person can read keep their words; anything else is a fault. */
export type TaskAnswer =
  | { readonly value: unknown }
  | { readonly problem: string; readonly status: number }
  | { readonly source: string; readonly asksForFile: boolean }
  | { readonly fault: string; readonly code: string };

interface Limits {
  /** Milliseconds of processor time; by the clock {@link WAITING} times as long. */
  readonly time: number;
  /** Bytes of memory the process may take in all. */
  readonly memory: number;
}

interface Waiting {
  readonly request: TaskRequest;
  /** Whether it may take so long that it must leave a process to others. */
  readonly long: boolean;
  /** What a process keeps between tasks that this one needs; null: any process will do. */
  readonly keeps: string | null;
  readonly limits: Limits;
  readonly done: (value: unknown) => void;
  readonly failed: (error: Error) => void;
  readonly signal: AbortSignal | undefined;
  /** How often a process was asked to do it. */
  asked: number;
}

interface Member {
  readonly child: ChildProcess;
  work: Waiting | null;
  /** What it keeps for tasks to come. */
  keeps: string | null;
  timer: NodeJS.Timeout | undefined;
  done: number;
  /** When it was asked last. */
  askedAt: number;
  /** Set when it is ended on purpose: what to say to who waits. */
  why: Error | null;
}

/** A preview that takes longer than this is given up. Milliseconds of processor time, so that a busy computer is not taken for a hostile file. */
export const PREVIEW_MS = 5_000;
const LONG_MS = 600_000;
/** How much longer than its processor time a task may take by the clock: it waits for slow drives and for others. */
const WAITING = 6;
const MEMORY = 640 << 20;
const HEAP_MIB = 512;
/** How often the memory of a working process is looked at. Milliseconds. */
const LOOK_MS = 200;
/** A task nobody waits for any more may go on for so long, because most end sooner than a new process is made. Milliseconds. */
const UNWANTED_MS = 1_000;
/** Tasks that wait for a process at most. */
const MOST_WAITING = 1_000;
/** A process that ends sooner after it was asked than this was not ended by what it was asked. Milliseconds. */
const DEAD_MS = 300;
/** Memory of a process that keeps what it has read, and what a task is allowed beside what its process keeps for others. Bytes. */
const MEMORY_KEEPING = 896 << 20;
const MEMORY_BESIDE = 320 << 20;
/** A process is replaced after so many tasks: what libraries keep would add up. */
const TASKS_EACH = 400;

/** Tasks that may take longer than a preview, because somebody asked for them or nobody waits. */
const LONG: Partial<Record<TaskName, number>> = {
  repair: 20_000,
  pieces: 20_000,
  picturePieces: 20_000,
  keepPieces: 60_000,
  lookLonger: LONG_MS,
  planRepair: 60_000,
  repairedPicture: 20_000,
  writeRepaired: LONG_MS,
  hash: 24 * 3_600_000,
  readDelivered: 24 * 3_600_000,
  judge: LONG_MS,
  survey: LONG_MS,
  lookAtRestored: LONG_MS,
  samePresent: 60_000,
  inspect: LONG_MS,
  records: 60_000,
  recordsCsv: 60_000,
  entries: 60_000,
  exportEntries: 60_000,
  mentionedFiles: 60_000,
  recordCandidates: 120_000,
  joinedDatabase: 120_000,
  browse: 30_000,
  usedRuns: 30_000,
};

/** Tasks for which a process keeps what it has read: all of them about one copy go to the same one. */
const KEEPING: ReadonlySet<TaskName> = new Set(["records", "recordsCsv", "entries", "exportEntries", "mentionedFiles"]);

/**
 * Processes that do what must not hold up anybody else: each does one task at a time and is ended when that takes too long or too much
 * memory; another takes its place. A client's file can stop no more than its own preview.
 */
export class ContentPool {
  readonly #members: Member[] = [];
  readonly #waiting: Waiting[] = [];

  constructor(
    private readonly most: number,
    private readonly entry = entryPoint(),
    private readonly environment: NodeJS.ProcessEnv = process.env,
  ) {}

  /**
   * Runs a task. @throws Problem or SourceError in words for a person, as the task did, or because it was given up
   * @param signal who gives up waiting takes a task that has not begun out of the queue, and ends one that has
   */
  run<N extends TaskName>(task: N, args: Parameters<Tasks[N]>, signal?: AbortSignal): Promise<TaskResult<N>> {
    const keeps = KEEPING.has(task) ? `rows of copy ${args[0]}` : null;
    const limits = { time: LONG[task] ?? PREVIEW_MS, memory: keeps === null ? MEMORY : MEMORY_KEEPING };
    return this.ask({ task, args }, limits, signal, keeps) as Promise<TaskResult<N>>;
  }

  ask(request: TaskRequest, limits: Limits, signal?: AbortSignal, keeps: string | null = null): Promise<unknown> {
    if (this.#waiting.length >= MOST_WAITING)
      return Promise.reject(new Problem("Too much is asked for at once. Wait a moment, and try again.", 429));
    if (signal?.aborted) return Promise.reject(new Problem("Nobody waits for this any more.", 499));
    const ended = new AbortController();
    const asked = new Promise((done, failed) => {
      const work: Waiting = { request, long: limits.time > PREVIEW_MS, keeps, limits, done, failed, signal, asked: 0 };
      this.#waiting.push(work);
      signal?.addEventListener("abort", () => this.#unwanted(work), { once: true, signal: ended.signal });
      this.#next();
    });
    // One reader may ask for many parts: what is answered does not listen any more.
    return asked.finally(() => ended.abort());
  }

  /** Ends all processes. */
  close(): void {
    for (const member of this.#members.splice(0)) member.child.kill("SIGKILL");
  }

  /** Begins what can be begun, in its order; long tasks leave one process to the short ones, where there are several. */
  #next(): void {
    for (;;) {
      const longs = this.#members.filter((each) => each.work?.long).length;
      const canBegin = ({ long, keeps }: Waiting) =>
        (!long || longs < Math.max(1, this.most - 1)) && !this.#members.some((each) => each.work?.keeps && each.work.keeps === keeps);
      const index = this.#waiting.findIndex(canBegin);
      const work = this.#waiting[index];
      const member = work && this.#memberFor(work);
      if (!member) return;
      this.#waiting.splice(index, 1);
      this.#begin(member, work);
    }
  }

  /** The process that does a task: the one that keeps what it needs, else one that keeps nothing, else a new one, else any that is free. */
  #memberFor({ keeps }: Waiting): Member | null {
    const free = this.#members.filter((each) => each.work === null).sort((a, b) => a.askedAt - b.askedAt);
    const known = (keeps !== null && free.find((each) => each.keeps === keeps)) || free.find((each) => each.keeps === null);
    if (known) return known;
    if (this.#members.length < this.most) return this.#start();
    const [oldest] = free;
    // Where much is kept for others, more beside it would be too much.
    if (!oldest || keeps === null || memoryOf(oldest.child.pid) < MEMORY_KEEPING / 3) return oldest ?? null;
    this.#retire(oldest);
    return this.#start();
  }

  /** Nobody waits for this any more: it does not begin, or is ended when it does not end by itself soon. */
  #unwanted(work: Waiting): void {
    const gone = new Problem("Nobody waits for this any more.", 499);
    const index = this.#waiting.indexOf(work);
    if (index >= 0) {
      this.#waiting.splice(index, 1);
      work.failed(gone);
      return;
    }
    // What a process has read and keeps is of use to the next who asks.
    if (work.keeps !== null) return;
    setTimeout(() => {
      const member = this.#members.find((each) => each.work === work);
      if (member) this.#end(member, gone);
    }, UNWANTED_MS).unref();
  }

  #begin(member: Member, work: Waiting): void {
    member.work = work;
    member.keeps = work.keeps ?? member.keeps;
    member.askedAt = Date.now();
    const memory = Math.max(work.limits.memory, work.keeps === null ? memoryOf(member.child.pid) + MEMORY_BESIDE : 0);
    work.asked += 1;
    const until = Date.now() + work.limits.time * WAITING;
    const most = processorTimeOf(member.child.pid ?? 0) + work.limits.time;
    member.timer = setInterval(() => {
      if (Date.now() > until || processorTimeOf(member.child.pid ?? 0) > most)
        this.#end(
          member,
          new Problem(
            `This took longer than ${Math.round(work.limits.time / 1000)} s and was given up: the content may be damaged, or made to take long.`,
            422,
          ),
        );
      else if (memoryOf(member.child.pid) > memory)
        this.#end(
          member,
          new Problem("This needed more memory than is allowed and was given up: the content may be damaged, or made to.", 422),
        );
    }, LOOK_MS);
    member.child.send(work.request, (error) => error && member.child.kill("SIGKILL"));
  }

  #end(member: Member, why: Error): void {
    member.why ??= why;
    member.child.kill("SIGKILL");
  }

  #start(): Member {
    const child = fork(this.entry.path, [], {
      serialization: "advanced",
      stdio: ["ignore", "ignore", "inherit", "ipc"],
      execArgv: [...this.entry.execArgv, `--max-old-space-size=${HEAP_MIB}`],
      env: this.environment,
    });
    const member: Member = { child, work: null, keeps: null, timer: undefined, done: 0, askedAt: 0, why: null };
    // Who works at the screen goes before what is read for the screen.
    if (child.pid) setPriority(child.pid, 5);
    child.unref();
    child.channel?.unref();
    child.on("message", (answer: TaskAnswer) => this.#answered(member, answer));
    child.on("error", (error) => this.#end(member, error));
    child.on("exit", () => this.#exited(member));
    this.#members.push(member);
    return member;
  }

  #answered(member: Member, answer: TaskAnswer): void {
    const { work } = member;
    this.#release(member);
    // What it keeps would have to be read again.
    if (!work?.keeps) member.done += 1;
    if (work) settle(work, answer);
    if (member.done >= TASKS_EACH) this.#retire(member);
    this.#next();
  }

  #exited(member: Member): void {
    const { work } = member;
    this.#release(member);
    this.#retire(member);
    // It may have been dead when it was asked, and so may the next one: another is asked, as often as there are processes.
    if (work && !member.why && work.asked <= this.most && Date.now() - member.askedAt < DEAD_MS) {
      this.#waiting.unshift(work);
    } else work?.failed(member.why ?? cutOff());
    this.#next();
  }

  #release(member: Member): void {
    clearInterval(member.timer);
    member.work = null;
  }

  #retire(member: Member): void {
    const index = this.#members.indexOf(member);
    if (index >= 0) this.#members.splice(index, 1);
    member.child.kill();
  }
}

/** The process ended before its task did, and another one did too. */
const cutOff = () => new Problem("This could not be read to its end: the content may be damaged, or made to be so.", 422);

function settle({ done, failed, request }: Waiting, answer: TaskAnswer): void {
  if ("value" in answer) done(answer.value);
  else if ("problem" in answer) failed(new Problem(answer.problem, answer.status));
  else if ("source" in answer) failed(new SourceError(answer.source, answer.asksForFile));
  else failed(Object.assign(new Error(`${request.task}: ${answer.fault}`), { code: answer.code }));
}

/** Bytes of memory a process has, as the system counts them; 0 where it does not say (proc(5), statm: pages). */
function memoryOf(pid: number | undefined): number {
  try {
    return Number(readFileSync(`/proc/${pid}/statm`, "latin1").split(" ")[1]) * 4096;
  } catch {
    return 0;
  }
}

/** The built process where there is one, else the source through the loader. */
function entryPoint(): { path: string; execArgv: string[] } {
  const built = join(/*turbopackIgnore: true*/ process.cwd(), "dist", "content-process.js");
  return existsSync(built)
    ? { path: built, execArgv: ["--enable-source-maps"] }
    : { path: join(/*turbopackIgnore: true*/ process.cwd(), "server", "content", "content-process.ts"), execArgv: ["--import", "tsx"] };
}

const MOST = 3;
const shared = globalThis as unknown as { compassContent?: ContentPool };

/** The pool of this process. */
export function contentPool(): ContentPool {
  shared.compassContent ??= new ContentPool(MOST);
  return shared.compassContent;
}

/** Runs a task in this process's pool. */
export const runTask = <N extends TaskName>(task: N, args: Parameters<Tasks[N]>, signal?: AbortSignal): Promise<TaskResult<N>> =>
  contentPool().run(task, args, signal);
