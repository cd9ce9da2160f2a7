import { linkSync, mkdirSync, rmSync, utimesSync, writeFileSync } from "node:fs";
import { dirname, join } from "node:path";

/** A file with its content in base64, a further name of one that stands before it, or a folder; and when it was changed last. */
type PackedFile = { readonly modified: string } & ({ readonly content: string } | { readonly link: string } | { readonly folder: true });
export type PackedFiles = Readonly<Record<string, PackedFile>>;

/** Lays packed files out below a folder, with the dates they had. */
export function layOut(files: PackedFiles, to: string): void {
  for (const [path, file] of Object.entries(files)) {
    const target = join(to, path);
    mkdirSync(dirname(target), { recursive: true });
    if ("folder" in file) mkdirSync(target, { recursive: true });
    else if ("link" in file) {
      // It is there where the same was laid out before.
      rmSync(target, { force: true });
      linkSync(join(to, file.link), target);
    } else writeFileSync(target, Buffer.from(file.content, "base64"));
  }
  // What is written into a folder changes its date: dates come last.
  for (const [path, { modified }] of Object.entries(files)) utimesSync(join(to, path), new Date(modified), new Date(modified));
}
