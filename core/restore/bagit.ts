/** Files and manifests of a bag (RFC 8493, sections 2.1 to 2.2.4). */
export const BAG_DECLARATION = "bagit.txt";
export const BAG_INFO = "bag-info.txt";
export const PAYLOAD = "data";
export const DECLARED = "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n";
export const ALGORITHMS = ["sha256", "sha512"] as const;
export type Algorithm = (typeof ALGORITHMS)[number];
export const manifestName = (algorithm: Algorithm): string => `manifest-${algorithm}.txt`;
export const tagManifestName = (algorithm: Algorithm): string => `tagmanifest-${algorithm}.txt`;

/** A file of a bag: its path below the bag, its bytes and the hashes of them. */
export interface BagFile {
  readonly path: string;
  readonly size: number;
  readonly hashes: Readonly<Record<Algorithm, string>>;
}

/** Manifests have a path a line: what would end a line is written as a percent code, and so is the percent sign itself (2.1.3). */
export const encodePath = (path: string): string =>
  path.replace(/[%\r\n]/g, (letter) => `%${letter.charCodeAt(0).toString(16).toUpperCase().padStart(2, "0")}`);
export const decodePath = (path: string): string =>
  path.replace(/%(0[AD]|25)/gi, (_, code: string) => String.fromCharCode(Number.parseInt(code, 16)));

export const writeManifest = (files: readonly BagFile[], algorithm: Algorithm): string =>
  files.map(({ path, hashes }) => `${hashes[algorithm]}  ${encodePath(path)}\n`).join("");

/** Reads a manifest: hash by path. @returns null for a line that is none */
export function parseManifest(text: string): Map<string, string> | null {
  const found = new Map<string, string>();
  for (const line of text.split(/\r\n|\r|\n/)) {
    if (line === "") continue;
    const match = /^([0-9a-fA-F]+)[ \t]+\*?(.+)$/.exec(line);
    if (!match) return null;
    found.set(decodePath(match[2] as string), (match[1] as string).toLowerCase());
  }
  return found;
}

/** The labels and values of a bag's facts, each on a line of its own (2.2.2). */
export const writeInfo = (facts: readonly (readonly [label: string, value: string])[]): string =>
  facts.map(([label, value]) => `${label}: ${value.replace(/[\r\n]+/g, " ")}\n`).join("");

/** Bytes and number of the files a bag holds (2.2.2, Payload-Oxum). */
export const oxumOf = (files: readonly BagFile[]): string => `${files.reduce((sum, { size }) => sum + size, 0)}.${files.length}`;

/** The value of a label; null: it is not there. */
export function infoValue(text: string, label: string): string | null {
  const line = text.split(/\r\n|\r|\n/).find((each) => each.toLowerCase().startsWith(`${label.toLowerCase()}:`));
  return line === undefined ? null : line.slice(label.length + 1).trim();
}
