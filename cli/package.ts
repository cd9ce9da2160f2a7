import { basename, join } from "node:path";
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
import type { Delivery } from "../io/deliver";
import { hashesOf } from "../io/verify-bag";

/** A package for the archive: a bag (RFC 8493) around what is restored. Files are hashed as they lie there. */
export class Package {
  readonly #files: BagFile[] = [];

  constructor(
    private readonly root: string,
    private readonly source: string,
  ) {}

  payloadPath(target: readonly string[]): string[] {
    return [PAYLOAD, ...target];
  }

  /** @param path of a file that was written, below the package */
  add(path: string): void {
    const found = hashesOf(join(this.root, path));
    if (!found) throw new Error(`${path} is not there any more`);
    this.#files.push({ path, ...found });
  }

  /** Writes the tag files, the manifests of those at last. */
  finish(delivery: Delivery): void {
    const bytes = this.#files.reduce((sum, { size }) => sum + size, 0);
    const tags = [
      [BAG_DECLARATION, DECLARED],
      [
        BAG_INFO,
        writeInfo([
          ["Bagging-Date", new Date().toISOString().slice(0, 10)],
          ["External-Description", `Files recovered from ${basename(this.source)}`],
          ["Payload-Oxum", oxumOf(this.#files)],
          ["Bag-Size", `${bytes} bytes`],
          ["Bag-Software-Agent", "Tidy Compass"],
        ]),
      ],
      ...ALGORITHMS.map((algorithm) => [manifestName(algorithm), writeManifest(this.#files, algorithm)] as const),
    ] as const;
    const written = tags.map(([name, text]) => this.#write(delivery, name, text));
    for (const algorithm of ALGORITHMS) this.#write(delivery, tagManifestName(algorithm), writeManifest(written, algorithm));
  }

  #write(delivery: Delivery, name: string, text: string): BagFile {
    delivery.deliver(new MemorySource(Buffer.from(text)), [name], { conflict: "replace" });
    const found = hashesOf(join(this.root, name));
    if (!found) throw new Error(`${name} is not there any more`);
    return { path: name, ...found };
  }
}
