import { closeSync, openSync, readFileSync, rmSync, writeSync } from "node:fs";
import { join } from "node:path";
import { PlainError } from "./packages";

interface Holder {
  readonly pid: number;
  /** When that process began, by the system's own clock; null: it does not say. */
  readonly began: string | null;
}

/** When a process began, in clock ticks after the system's start (proc(5), stat, field 22): a later one of the same number differs. */
function beganAt(pid: number): string | null {
  try {
    const stat = readFileSync(`/proc/${pid}/stat`, "latin1");
    return stat.slice(stat.lastIndexOf(")") + 2).split(" ")[19] ?? null;
  } catch {
    return null;
  }
}

function isAlive({ pid, began }: Holder): boolean {
  try {
    process.kill(pid, 0);
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code !== "EPERM") return false;
  }
  return began === null || beganAt(pid) === began;
}

/**
 * Takes a data folder for this process: two benches must not work on one.
 * @returns what gives it back
 * @throws PlainError when another start has it
 */
export function holdDataFolder(data: string): () => void {
  const file = join(data, "running.json");
  const own = JSON.stringify({ pid: process.pid, began: beganAt(process.pid) } satisfies Holder);
  for (let tries = 0; tries < 5; tries += 1) {
    try {
      const descriptor = openSync(file, "wx", 0o600);
      writeSync(descriptor, own);
      closeSync(descriptor);
      return () => {
        if (readIfThere(file) === own) rmSync(file, { force: true });
      };
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== "EEXIST") throw error;
    }
    const text = readIfThere(file);
    const holder = holderIn(text);
    // One that is empty was made this very moment by another start.
    if (holder ? isAlive(holder) : text === "" && tries < 4)
      throw new PlainError(
        `Tidy Compass is running already with the data folder ${data}${holder ? ` (process ${holder.pid})` : ""}. Use that one, end it first, or set COMPASS_DATA to another folder.`,
      );
    rmSync(file, { force: true });
  }
  throw new PlainError(`The data folder ${data} cannot be taken: other starts are taking it at the same moment. Try again.`);
}

function readIfThere(file: string): string | null {
  try {
    return readFileSync(file, "utf8");
  } catch {
    return null;
  }
}

function holderIn(text: string | null): Holder | null {
  try {
    const { pid, began } = JSON.parse(text ?? "") as Holder;
    return Number.isInteger(pid) && pid > 0 ? { pid, began } : null;
  } catch {
    return null;
  }
}
