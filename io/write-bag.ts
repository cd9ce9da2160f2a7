import { join, relative } from "node:path";
import { MemorySource } from "../core/bytes/byte-source";
import {
  ALGORITHMS,
  BAG_DECLARATION,
  BAG_INFO,
  type BagFile,
  DECLARED,
  manifestName,
  oxumOf,
  PAYLOAD,
  tagManifestName,
  writeInfo,
  writeManifest,
} from "../core/restore/bagit";
import type { Delivery } from "./deliver";
import { DeliveryError } from "./give-name";
import { hashesOf } from "./verify-bag";

/** A file that was written into a bag's payload, below the bag. */
export interface PayloadFile {
  readonly path: string;
  /** What was written, hexadecimal. */
  readonly sha256: string;
}

export interface BagFacts {
  /** Labels and values of the bag's facts, beside those that follow from its files. */
  readonly info: readonly (readonly [label: string, value: string])[];
  /** Tag files of the bag's maker: a report, a list. */
  readonly tags: readonly { readonly name: string; readonly text: string }[];
}

/** Where a file goes in a bag. */
export const inPayload = (components: readonly string[]): string[] => [PAYLOAD, ...components];

/**
 * Closes a bag (RFC 8493) around the files that were written into its payload: each is read once more, and its hash must be the one it
 * was written with. Tag files of an earlier closing are overwritten, those of the manifests last.
 * @param folder names of the folders between the destination and the bag
 * @throws DeliveryError when a file is not there any more as it was written
 */
export function closeBag(delivery: Delivery, folder: readonly string[], payload: readonly PayloadFile[], facts: BagFacts): void {
  const root = join(delivery.path, ...folder);
  const files = payload.map(({ path, sha256 }): BagFile => {
    const found = hashesOf(join(root, path));
    if (found?.hashes.sha256 !== sha256)
      throw new DeliveryError(`“${join(root, path)}” was changed or removed before its package was closed: restore it again.`);
    return { path, ...found };
  });
  const bytes = files.reduce((sum, { size }) => sum + size, 0);
  const info = writeInfo([
    ["Bagging-Date", new Date().toISOString().slice(0, 10)],
    ...facts.info,
    ["Payload-Oxum", oxumOf(files)],
    ["Bag-Size", `${bytes} bytes`],
    ["Bag-Software-Agent", "Tidy Compass"],
  ]);
  const write = (name: string, text: string): BagFile => {
    const done = delivery.deliver(new MemorySource(Buffer.from(text)), [...folder, name], { conflict: "overwrite" });
    const found = done && hashesOf(done.output);
    if (!found) throw new DeliveryError(`“${join(root, name)}” is not there any more.`);
    return { path: relative(root, done.output), ...found };
  };
  const tags = [
    write(BAG_DECLARATION, DECLARED),
    write(BAG_INFO, info),
    ...facts.tags.map(({ name, text }) => write(name, text)),
    ...ALGORITHMS.map((algorithm) => write(manifestName(algorithm), writeManifest(files, algorithm))),
  ];
  for (const algorithm of ALGORITHMS) write(tagManifestName(algorithm), writeManifest(tags, algorithm));
}
