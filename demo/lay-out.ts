import { mkdirSync, utimesSync, writeFileSync } from "node:fs";
import { dirname, join } from "node:path";

/** Files by their path: content in base64, and when it was changed last. */
export type PackedFiles = Readonly<Record<string, { content: string; modified: string }>>;

/** Lays packed files out below a folder, with the dates they had. */
export function layOut(files: PackedFiles, to: string): void {
  for (const [path, { content, modified }] of Object.entries(files)) {
    const target = join(to, path);
    mkdirSync(dirname(target), { recursive: true });
    writeFileSync(target, Buffer.from(content, "base64"));
    utimesSync(target, new Date(modified), new Date(modified));
  }
}
