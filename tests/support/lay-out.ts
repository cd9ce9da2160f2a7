import { mkdirSync, utimesSync, writeFileSync } from "node:fs";
import { dirname, join } from "node:path";

/** Lays packed files (base64) out below a folder, with the dates they had. */
export function layOut(files: Readonly<Record<string, { content: string; modified: string }>>, to: string): void {
  for (const [path, { content, modified }] of Object.entries(files)) {
    const target = join(to, path);
    mkdirSync(dirname(target), { recursive: true });
    writeFileSync(target, Buffer.from(content, "base64"));
    utimesSync(target, new Date(modified), new Date(modified));
  }
}
