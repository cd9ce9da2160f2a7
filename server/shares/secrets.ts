import { createHash, randomBytes, randomInt, type ScryptOptions, scrypt, timingSafeEqual } from "node:crypto";
import { Problem } from "../problem";

/** Bytes of a secret in an address or a cookie: 256 bits cannot be guessed. */
const SECRET_BYTES = 32;
/** How such a secret looks. */
export const SECRET = /^[A-Za-z0-9_-]{43}$/;

export const newSecret = (): string => randomBytes(SECRET_BYTES).toString("base64url");

/** What is kept of a secret nobody can guess: its SHA-256, hexadecimal. */
export const hashSecret = (secret: string): string => createHash("sha256").update(secret).digest("hex");

/** Letters and digits that are not taken for one another when a password is read out. */
const ALPHABET = "abcdefghjkmnpqrstuvwxyz23456789";
const GROUPS = 4;
const GROUP = 4;

/** Makes a password of 79 bits that can be read out over the telephone. */
export const newPassword = (): string =>
  Array.from({ length: GROUPS }, () => Array.from({ length: GROUP }, () => ALPHABET[randomInt(ALPHABET.length)]).join("")).join("-");

/** Cost of a password's hash (RFC 7914): 32 MiB, so that a stolen database cannot be tried through quickly. */
const COST = { N: 2 ** 15, r: 8, p: 1 } as const;
const HASH_BYTES = 32;
/** Memory it may use: twice what RFC 7914 counts (128 N r). Bytes. */
const MEMORY = 256 * COST.N * COST.r;
/** Passwords that are hashed at the same time; others are turned away rather than take the memory. */
const MOST_AT_ONCE = 4;
let atWork = 0;

async function derive(password: string, salt: Buffer, { N, r, p }: Required<Pick<ScryptOptions, "N" | "r" | "p">>): Promise<Buffer> {
  if (atWork >= MOST_AT_ONCE) throw new Problem("Too many passwords are looked at just now. Try again in a moment.", 429);
  atWork += 1;
  try {
    return await new Promise<Buffer>((done, fail) =>
      // The same password typed on different systems may come in different forms (Unicode NFKC).
      scrypt(password.normalize("NFKC"), salt, HASH_BYTES, { N, r, p, maxmem: MEMORY }, (error, key) => (error ? fail(error) : done(key))),
    );
  } finally {
    atWork -= 1;
  }
}

/** Hashes a password with a salt of its own. @returns cost, salt and hash as one text */
export async function hashPassword(password: string): Promise<string> {
  const salt = randomBytes(16);
  const hash = await derive(password, salt, COST);
  return ["scrypt", COST.N, COST.r, COST.p, salt.toString("base64url"), hash.toString("base64url")].join("$");
}

/** Says whether a password is the one that was hashed. */
export async function isPassword(password: string, stored: string): Promise<boolean> {
  const [, N, r, p, salt = "", hash = ""] = stored.split("$");
  const found = await derive(password, Buffer.from(salt, "base64url"), { N: Number(N), r: Number(r), p: Number(p) });
  return timingSafeEqual(found, Buffer.from(hash, "base64url"));
}
