import { createHash } from "node:crypto";
import { closeSync, lstatSync, openSync, readdirSync, readFileSync, readSync } from "node:fs";
import { join } from "node:path";
import {
  ALGORITHMS,
  type Algorithm,
  BAG_DECLARATION,
  BAG_INFO,
  infoValue,
  manifestName,
  PAYLOAD,
  parseManifest,
  tagManifestName,
} from "../core/restore/bagit";

/** Something that does not agree in a bag: which file, and why. */
export interface BagProblem {
  readonly path: string;
  readonly problem: string;
}

export interface BagReport {
  /** Payload files whose hashes agree with every manifest. */
  readonly agreed: number;
  readonly bytes: number;
  readonly problems: readonly BagProblem[];
}

const STEP = 1 << 20;
/** Bytes of a tag file that are read. */
const MOST_TAGS = 1 << 28;

/** Hashes a plain file by all algorithms in one reading; null: it is not there, or no plain file. Links are not followed. */
export function hashesOf(path: string): { size: number; hashes: Record<Algorithm, string> } | null {
  const stats = lstatSync(path, { throwIfNoEntry: false });
  if (!stats?.isFile()) return null;
  const file = openSync(path, "r");
  try {
    const all = ALGORITHMS.map((algorithm) => [algorithm, createHash(algorithm)] as const);
    const buffer = Buffer.alloc(STEP);
    let size = 0;
    for (let read = readSync(file, buffer); read > 0; read = readSync(file, buffer)) {
      size += read;
      for (const [, hash] of all) hash.update(buffer.subarray(0, read));
    }
    return {
      size,
      hashes: Object.fromEntries(all.map(([algorithm, hash]) => [algorithm, hash.digest("hex")])) as Record<Algorithm, string>,
    };
  } finally {
    closeSync(file);
  }
}

/** Checks a bag (RFC 8493, 3): it is declared, its manifests name all of its payload and nothing else, and every hash agrees. */
export function verifyBag(root: string): BagReport {
  const problems: BagProblem[] = [];
  const say = (path: string, problem: string) => problems.push({ path, problem });
  const declaration = tagFile(root, BAG_DECLARATION);
  if (declaration === null || !/^BagIt-Version: \d+\.\d+\r?\nTag-File-Character-Encoding: UTF-8\r?\n?$/.test(declaration))
    say(BAG_DECLARATION, "It is missing, or does not declare a bag.");
  const present = new Map(payloadOf(root).map((path) => [path.normalize("NFC"), path]));
  const manifests = ALGORITHMS.flatMap((algorithm) => {
    const text = tagFile(root, manifestName(algorithm));
    if (text === null) return [];
    const listed = parseManifest(text);
    if (listed === null) say(manifestName(algorithm), "It has a line that is no hash and path.");
    return [{ algorithm, listed: listed ?? new Map<string, string>() }];
  });
  if (manifests.length === 0) say(manifestName(ALGORITHMS[0]), "There is no manifest of the kinds that are compared here.");
  let agreed = 0;
  let bytes = 0;
  const listed = new Set(manifests.flatMap((each) => [...each.listed.keys()]));
  for (const path of listed) {
    if (!path.startsWith(`${PAYLOAD}/`) || path.split("/").includes("..")) {
      say(path, "A manifest leads out of the payload.");
      continue;
    }
    const there = present.get(path.normalize("NFC"));
    const found = there === undefined ? null : hashesOf(join(root, there));
    if (!found) {
      say(path, "It is missing.");
      continue;
    }
    bytes += found.size;
    const wrong = manifests.find(({ algorithm, listed: each }) => each.get(path) !== found.hashes[algorithm]);
    if (!wrong) agreed += 1;
    else
      say(
        path,
        wrong.listed.has(path)
          ? `Its bytes are not those of the manifest (${wrong.algorithm}).`
          : `${manifestName(wrong.algorithm)} does not name it.`,
      );
  }
  const known = new Set([...listed].map((path) => path.normalize("NFC")));
  for (const [own, path] of present) if (!known.has(own)) say(path, "No manifest names it.");
  checkTags(root, say);
  const oxum = infoValue(tagFile(root, BAG_INFO) ?? "", "Payload-Oxum");
  if (oxum !== null && oxum !== `${bytes}.${present.size}`)
    say(BAG_INFO, `It tells of ${oxum} bytes and files; there are ${bytes}.${present.size}.`);
  return { agreed, bytes, problems };
}

function checkTags(root: string, say: (path: string, problem: string) => void): void {
  for (const algorithm of ALGORITHMS) {
    const text = tagFile(root, tagManifestName(algorithm));
    if (text === null) continue;
    for (const [path, hash] of parseManifest(text) ?? new Map<string, string>()) {
      const found = path.split("/").includes("..") ? null : hashesOf(join(root, path));
      if (found?.hashes[algorithm] !== hash)
        say(path, found ? `Its bytes are not those of ${tagManifestName(algorithm)}.` : "It is missing.");
    }
  }
}

function tagFile(root: string, name: string): string | null {
  const path = join(root, name);
  const stats = lstatSync(path, { throwIfNoEntry: false });
  return stats?.isFile() && stats.size <= MOST_TAGS ? readFileSync(path, "utf8") : null;
}

/** Paths of all that lies in a bag's payload, links among them: they are no files of it. */
function payloadOf(root: string): string[] {
  if (!lstatSync(join(root, PAYLOAD), { throwIfNoEntry: false })?.isDirectory()) return [];
  return readdirSync(join(root, PAYLOAD), { recursive: true, withFileTypes: true })
    .filter((entry) => !entry.isDirectory())
    .map((entry) => join(entry.parentPath, entry.name).slice(root.length + 1));
}
