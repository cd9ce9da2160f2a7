import { existsSync, statSync } from "node:fs";
import { basename, dirname, resolve } from "node:path";
import type { ByteSource } from "../core/bytes/byte-source";
import type { Verdict } from "../core/formats/format";
import { repair } from "../core/repair/repair";
import { type Delivered, Delivery } from "../io/deliver";
import { DeliveryError } from "../io/give-name";
import { ReadOnlyFile } from "../io/read-only-file";
import { SourceError } from "../io/source-error";
import type { Options } from "./options";
import { flush, line } from "./output";
import { EXIT, Usage } from "./usage";

/** `compass repair`: writes what can be saved of a damaged file to another. */
export function repairFile(files: readonly string[], options: Options): number {
  const [path, extra] = files;
  const { to, like } = options;
  if (path === undefined || extra !== undefined || !to) throw new Usage("Name one file, and with --to where its repaired form goes.");
  if (existsSync(to)) throw new Usage(`${to} is there already: nothing is written over.`);
  const damaged = open(path);
  const sibling = like === undefined ? null : open(like);
  try {
    const repaired = repair(damaged, path, sibling);
    if (!repaired) {
      line(options.json, { file: path, repaired: false }, `not repaired\t${path}\tnothing in it can be mended here`);
      return EXIT.problems;
    }
    const written = write(repaired.content, to);
    const { format, done, before, after } = repaired;
    line(
      options.json,
      {
        file: path,
        repaired: true,
        format: format.id,
        to: written.output,
        size: written.size,
        sha256: written.sha256,
        done,
        before,
        after,
      },
      `repaired\t${written.output}\t${done.join(" ")} Before: ${words(before)}. Now: ${words(after)}.`,
    );
    return EXIT.done;
  } finally {
    flush();
    damaged.close();
    sibling?.close();
  }
}

const words = (verdict: Verdict) => (verdict.verdict === "sound" ? "opens" : verdict.reason);

function write(content: ByteSource, to: string): Delivered {
  const target = resolve(to);
  if (!statSync(dirname(target), { throwIfNoEntry: false })?.isDirectory()) throw new Usage(`The folder ${dirname(target)} is not there.`);
  const delivery = Delivery.openHere(dirname(target));
  try {
    const written = delivery.deliver(content, [basename(target)], { conflict: "skip" });
    if (!written) throw new Usage(`${to} is there already: nothing is written over.`);
    return written;
  } catch (error) {
    throw error instanceof DeliveryError ? new SourceError(error.message) : error;
  } finally {
    delivery.close();
  }
}

function open(file: string): ReadOnlyFile {
  try {
    return new ReadOnlyFile(file);
  } catch {
    throw new SourceError(`${file} cannot be read.`);
  }
}
