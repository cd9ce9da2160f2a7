import { spawnSync } from "node:child_process";
import { type AttributedFile, type OwnAttribute, parseAttributeDump, writeAttributeDump } from "../core/restore/attribute-dump";

/** Milliseconds a call of a tool may take. */
const TIMEOUT_MS = 60_000;
/** Bytes of one answer at most. */
const MOST_ANSWER = 256 << 20;
/** Bytes of values that are handed to a tool at once, so that they need not all stand in memory as text. */
const MOST_AT_ONCE = 4 << 20;

/** Extended attributes are set and read by the system's tools (package `attr`): the runtime has no call for them. */
function call(tool: "setfattr" | "getfattr", folder: string, args: readonly string[], input = ""): string | null {
  const { error, stdout } = spawnSync(tool, args, {
    cwd: folder,
    input,
    env: { ...process.env, LC_ALL: "C" },
    timeout: TIMEOUT_MS,
    maxBuffer: MOST_ANSWER,
    stdio: ["pipe", "pipe", "ignore"],
  });
  return error ? null : stdout.toString("latin1");
}

let tools: boolean | undefined;

/** Whether the system has the tools. */
export function hasAttributeTools(): boolean {
  tools ??= call("setfattr", "/", ["--version"]) !== null && call("getfattr", "/", ["--version"]) !== null;
  return tools;
}

/**
 * Sets attributes of files, as far as the file system takes them: what it took is seen by reading them again.
 * @param folder the files lie in; their names are plain ones
 */
export function setOwnAttributes(folder: string, files: readonly AttributedFile[]): void {
  for (const some of byBytes(files)) call("setfattr", folder, ["--restore=-"], writeAttributeDump(some));
}

/** Reads the attributes of files. @param name of the one that is asked for, which the system need not list by itself; without it all */
export function readOwnAttributes(folder: string, files: readonly string[], name?: string): Map<string, readonly OwnAttribute[]> {
  if (files.length === 0) return new Map();
  const which = name === undefined ? ["-d", "-m", "-"] : ["-n", name];
  // Links are not followed.
  const text = call("getfattr", folder, [...which, "-h", "-e", "base64", "--", ...files]);
  return new Map(parseAttributeDump(text ?? "").map(({ file, attributes }) => [file, attributes]));
}

function* byBytes(files: readonly AttributedFile[]): Generator<AttributedFile[]> {
  let some: AttributedFile[] = [];
  let bytes = 0;
  for (const file of files) {
    const own = file.attributes.reduce((sum, { value }) => sum + value.length, 0);
    if (some.length > 0 && bytes + own > MOST_AT_ONCE) {
      yield some;
      [some, bytes] = [[], 0];
    }
    some.push(file);
    bytes += own;
  }
  if (some.length > 0) yield some;
}
