import { readdirSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import type { ByteSource } from "../../core/bytes/byte-source";
import { openSource } from "../../io/open-source";
import { blocksSource } from "./blocks";

/** What a manifest of `make-driven-volumes.py` has of a volume. Paths are as the driver was given them, without a leading slash. */
export interface DrivenTruth {
  readonly kind: string;
  readonly form: string;
  readonly live: Readonly<Record<string, { readonly size: number; readonly sha256: string }>>;
  readonly folders: readonly string[];
  /** Symbolic links, and where they lead. */
  readonly symbolic: Readonly<Record<string, string>>;
  /** `livesOn`: the content had another name. */
  readonly deleted: readonly { readonly path: string; readonly size: number; readonly sha256: string; readonly livesOn: boolean }[];
  /** SHA-256 of every content a path has had. */
  readonly history: Readonly<Record<string, readonly string[]>>;
  /** SHA-256 of what may have stood on the disk while a content was being written. */
  readonly midway: readonly string[];
  /** Of files, folders and links, that there ever were. */
  readonly names: readonly string[];
  /** Of a volume that was formatted over another one: what lived on that one. */
  readonly former?: DrivenTruth["live"];
}

export interface DrivenVolume {
  readonly name: string;
  readonly truth: DrivenTruth;
  open(): ByteSource;
}

const folder = join(import.meta.dirname, "../fixtures/driven");
const foldersOver = join(import.meta.dirname, "../fixtures/driven-over");

/** The volumes among the fixtures; and where COMPASS_DRIVEN names a folder of whole images with their manifests, these. */
export function drivenVolumes(): DrivenVolume[] {
  const more = process.env.COMPASS_DRIVEN;
  return [...volumesIn(folder, openBlocks), ...(more ? volumesIn(more, openImage) : [])];
}

/** Volumes that were formatted over others and used; where COMPASS_DRIVEN_OVER names a folder of whole images with their manifests, these too. */
export function drivenOver(): DrivenVolume[] {
  const more = process.env.COMPASS_DRIVEN_OVER;
  return [...volumesIn(foldersOver, openBlocks), ...(more ? volumesIn(more, openImage) : [])];
}

/** Those of them that are called so. @throws Error when one of them is not there */
export const drivenOverBy = (...names: readonly string[]): DrivenVolume[] =>
  names.map((name) => {
    const found = drivenOver().find((volume) => volume.name === name);
    if (!found) throw new Error(`There is no volume called ${name}.`);
    return found;
  });

const openImage = (path: string): ByteSource => openSource(`${path}.img`).disk;

const openBlocks = (path: string): ByteSource => blocksSource(gunzipSync(readFileSync(`${path}.blocks.gz`)));

function volumesIn(at: string, open: (path: string) => ByteSource): DrivenVolume[] {
  const names = readdirSync(at).flatMap((name) => (name.endsWith(".json.gz") ? [name.slice(0, -".json.gz".length)] : []));
  return names.map((name) => ({
    name,
    truth: JSON.parse(gunzipSync(readFileSync(join(at, `${name}.json.gz`))).toString()) as DrivenTruth,
    open: () => open(join(at, name)),
  }));
}
