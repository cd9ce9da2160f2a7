import { scryptSync } from "node:crypto";
import { describe, expect, it } from "vitest";
import { hashPassword, hashSecret, isPassword, newPassword, newSecret, SECRET } from "./secrets";

describe("secrets of links", () => {
  it("are 256 bits each and never the same; what is kept of them is not they themselves", () => {
    const all = new Set(Array.from({ length: 500 }, newSecret));
    expect(all.size).toBe(500);
    for (const secret of all) {
      expect(secret).toMatch(SECRET);
      expect(Buffer.from(secret, "base64url")).toHaveLength(32);
    }
    // FIPS 180-4, SHA-256 of "abc".
    expect(hashSecret("abc")).toBe("ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
  });

  it("passwords can be read out: no letter or digit that is taken for another", () => {
    const made = new Set(Array.from({ length: 300 }, newPassword));
    expect(made.size).toBe(300);
    for (const password of made) expect(password).toMatch(/^[a-hjkmnp-z2-9]{4}(-[a-hjkmnp-z2-9]{4}){3}$/);
  });

  it("the function is that of RFC 7914, section 12 (third vector)", () => {
    const found = scryptSync("pleaseletmein", "SodiumChloride", 64, { N: 16_384, r: 8, p: 1 });
    expect(found.toString("hex")).toBe(
      "7023bdcb3afd7348461c06cd81fd38ebfda8fbba904f8e3ea9b543f6545da1f2d5432955613f0fcf62d49705242a9af9e61e85dc0d651e40dfcf017b45575887",
    );
  });

  it("a password is known again by its hash, in whatever Unicode form; another one is not", { tags: "long" }, async () => {
    const stored = await hashPassword("Grüße an Müller");
    expect(stored).not.toContain("Müller");
    expect(stored).not.toBe(await hashPassword("Grüße an Müller"));
    expect(await isPassword("Grüße an Müller".normalize("NFD"), stored)).toBe(true);
    expect(await isPassword("Grüße an Muller", stored)).toBe(false);
    expect(await isPassword("", stored)).toBe(false);
  });

  it("more than a few at once are turned away, and later ones are not", { tags: "long" }, async () => {
    const stored = await hashPassword("one of many words");
    const all = await Promise.allSettled(Array.from({ length: 12 }, () => isPassword("one of many words", stored)));
    expect(all.filter(({ status }) => status === "fulfilled")).toHaveLength(4);
    expect(await isPassword("one of many words", stored)).toBe(true);
  });
});
