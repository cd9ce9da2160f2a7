import { parentPort } from "node:worker_threads";
import type { ByteSource } from "../core/bytes/byte-source";
import { type Layout, LayoutSource } from "../core/bytes/layout";
import { type Conflict, publish, type Staged, stage } from "../io/deliver";
import { openBytes } from "../io/open-searchable";

/** What the thread is asked: write a file under a working name, or give it its name. */
export type RestoreRequest =
  | {
      readonly ask: "stage";
      readonly sourcePath: string;
      readonly beside: readonly string[];
      /** In a folder of this computer: the file below it. */
      readonly file: string | null;
      readonly layout: Layout;
      readonly root: string;
      readonly components: readonly string[];
      readonly workingName: string;
      readonly modified: number | null;
    }
  | { readonly ask: "publish"; readonly staged: Staged; readonly target: string; readonly conflict: Conflict };

export type RestoreAnswer =
  | { readonly staged: Staged; readonly unreadable: number }
  | { readonly published: boolean }
  | { readonly problem: string };

const open = new Map<string, ByteSource>();

function diskOf(path: string, beside: readonly string[]): ByteSource {
  const kept = open.get(path);
  if (kept) return kept;
  const { disk } = openBytes(path, null, beside);
  open.set(path, disk);
  return disk;
}

function answer(request: RestoreRequest): RestoreAnswer {
  if (request.ask === "publish") return { published: publish(request.staged, request.target, request.conflict) };
  // A disk is kept open for the next file; files of a folder are opened one by one.
  const own = request.file === null ? null : openBytes(request.sourcePath, request.file);
  try {
    const content = new LayoutSource(own?.disk ?? diskOf(request.sourcePath, request.beside), request.layout);
    const staged = stage(content, request.root, request.components, { workingName: request.workingName, modified: request.modified });
    const unreadable = content.unreadable(0, content.size).reduce((sum, range) => sum + range.end - range.start, 0);
    return { staged, unreadable };
  } finally {
    own?.close();
  }
}

parentPort?.on("message", (request: RestoreRequest) => {
  try {
    parentPort?.postMessage(answer(request));
  } catch (error) {
    parentPort?.postMessage({ problem: (error as Error).message } satisfies RestoreAnswer);
  }
});
