import type { ByteSource } from "../bytes/byte-source";
import { readBytes } from "../bytes/byte-source";
import { LayoutSource } from "../bytes/layout";
import { type FileRecord, likeliest } from "../filesystems/file-record";
import { kindOf } from "../formats/registry";
import { readAccounts } from "./account-database";

/** A user's profile folder, with what is in it. Bytes; times in UTC milliseconds. */
export interface Profile {
  readonly path: string;
  readonly user: string;
  /** It belongs to a system that was there before an upgrade. */
  readonly earlier: boolean;
  readonly files: number;
  readonly bytes: number;
  /** Bytes by kind of file. */
  readonly kinds: Record<string, number>;
  /** When anything in it was last changed. */
  readonly lastUsed: number | null;
  readonly account: "enabled" | "disabled" | "not known";
}

/**
 * Where profile folders stand below a volume's root (common practice, no published source): the present system's, and the
 * same below the folder an upgrade puts the previous system into.
 */
const PLACES: readonly { readonly pattern: RegExp; readonly earlier: boolean }[] = [
  { pattern: /^\/(?:Users|Documents and Settings)\/([^/]+)(?=\/)/i, earlier: false },
  { pattern: /^\/[^/]+\.old(?:\.\d+)?\/(?:Users|Documents and Settings)\/([^/]+)(?=\/)/i, earlier: true },
];
/** Folders beside the profiles that are nobody's. */
const NOBODY = /^(?:Public|Default|Default User|All Users|Shared|Guest)$/i;
/** The account database, below the root or below a previous system's folder. */
const ACCOUNTS = /^(\/[^/]+\.old(?:\.\d+)?)?\/[^/]+\/System32\/config\/SAM$/i;
const MAX_DATABASE = 1 << 26;
const MOST_PROFILES = 2000;

interface Gathered {
  path: string;
  user: string;
  earlier: boolean;
  files: number;
  bytes: number;
  kinds: Record<string, number>;
  lastUsed: number | null;
}

/** Gathers what a volume's live files say about the profiles on it, as they come by. */
export class ProfileInventory {
  readonly #profiles = new Map<string, Gathered>();
  readonly #databases: { root: string; record: FileRecord }[] = [];

  add(record: FileRecord): void {
    if (record.state !== "live") return;
    const database = record.type === "file" ? ACCOUNTS.exec(record.path) : null;
    if (database) this.#databases.push({ root: database[1] ?? "", record });
    for (const { pattern, earlier } of PLACES) {
      const match = pattern.exec(record.type === "folder" ? `${record.path}/` : record.path);
      const user = match?.[1];
      if (!match || !user || NOBODY.test(user)) continue;
      const [path] = match;
      const known = this.#profiles.get(path) ?? { path, user, earlier, files: 0, bytes: 0, kinds: {}, lastUsed: null };
      if (!this.#profiles.has(path)) {
        if (this.#profiles.size >= MOST_PROFILES) return;
        this.#profiles.set(path, known);
      }
      if (record.type === "file") {
        known.files += 1;
        known.bytes += record.size;
        const kind = kindOf(record.name);
        known.kinds[kind] = (known.kinds[kind] ?? 0) + record.size;
        if (record.modified !== null && record.modified > (known.lastUsed ?? Number.NEGATIVE_INFINITY)) known.lastUsed = record.modified;
      }
      return;
    }
  }

  /** The profiles with their accounts, the last used first. A file in place of a folder is no profile. */
  list(disk: ByteSource): Profile[] {
    const accounts = this.#databases.map(({ root, record }) => {
      const place = record.size <= MAX_DATABASE ? likeliest(record) : null;
      return { root, accounts: place ? readAccounts(readBytes(new LayoutSource(disk, place.layout), 0, record.size)) : [] };
    });
    return [...this.#profiles.values()]
      .map((profile): Profile => {
        const own = accounts.find(({ root }) => (root === "" ? !profile.earlier : profile.path.startsWith(`${root}/`)));
        // A folder may bear a mark behind the account's name when the name was taken.
        const account = own?.accounts.find(
          ({ name }) =>
            profile.user.toLowerCase() === name.toLowerCase() || profile.user.toLowerCase().startsWith(`${name.toLowerCase()}.`),
        );
        return { ...profile, account: account ? (account.disabled ? "disabled" : "enabled") : "not known" };
      })
      .sort((a, b) => (b.lastUsed ?? 0) - (a.lastUsed ?? 0));
  }
}
