import { writeSync } from "node:fs";
import { diskFile } from "../io/bundle";
import { Usage } from "./usage";

const FLUSH_AT = 1 << 16;
let pending = "";

/** One line on standard output, as JSON or as the given words. Written in large pieces, and never lost to a full pipe. */
export function line(json: boolean | undefined, value: unknown, words: string): void {
  put(json ? JSON.stringify(value) : words);
}

/** One line on standard output, as it is. */
export function put(text: string): void {
  pending += text;
  pending += "\n";
  if (pending.length >= FLUSH_AT) flush();
}

export function flush(): void {
  const bytes = Buffer.from(pending);
  pending = "";
  for (let done = 0; done < bytes.length; ) {
    try {
      done += writeSync(1, bytes, done);
    } catch (error) {
      const { code } = error as NodeJS.ErrnoException;
      if (code === "EPIPE") process.exit(0);
      if (code !== "EAGAIN") throw error;
    }
  }
}

export const say = (words: string) => process.stderr.write(`${words}\n`);

export function oneSource(positionals: readonly string[]): string {
  const [path, extra] = positionals;
  if (path === undefined) throw new Usage("Name the image to read.");
  if (extra !== undefined) throw new Usage(`One source at a time: “${extra}” is one too many.`);
  return diskFile(path);
}
