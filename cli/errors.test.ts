import { existsSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { compass } from "../tests/support/command-line";
import { fixture } from "../tests/support/volume-truth";

const work = mkdtempSync(join(tmpdir(), "compass-errors-"));
afterAll(() => rmSync(work, { recursive: true }));
const at = (name: string) => join(work, name);

beforeAll(() => {
  writeFileSync(at("stick.img"), fixture("fat32.img.gz"));
  writeFileSync(at("letter.txt"), "Dear members,\nthe dome stays closed tonight.\n".repeat(20));
  writeFileSync(at("nothing.img"), "");
  writeFileSync(at("noise.zip"), Buffer.concat([Buffer.from("PK\u0003\u0004"), Buffer.alloc(500, 0x5a)]));
  writeFileSync(at("there.zip"), "kept");
  mkdirSync(at("folder"));
});

/** Exit codes as the help promises them: 2 wrong call, 3 source unreadable. */
describe("the command line says what was wrong with a call, and does nothing", () => {
  it.each<[words: string, args: () => string[], code: number, said: string]>([
    ["no verb", () => [], 2, "Tidy Compass, command line"],
    ["a verb there is not", () => ["delete", at("stick.img")], 2, "There is no verb “delete”"],
    ["a flag there is not", () => ["inspect", at("stick.img"), "--force"], 2, "Unknown option '--force'"],
    ["a flag without its value", () => ["list", at("stick.img"), "--volume"], 2, "argument missing"],
    ["no source", () => ["list"], 2, ""],
    ["a source that is not there", () => ["inspect", at("gone.img")], 3, "is not there. Check that the drive is connected"],
    ["an empty source", () => ["inspect", at("nothing.img")], 3, "is empty"],
    ["a folder where an image is wanted", () => ["list", at("folder")], 3, "is a folder; choose the image"],
    ["a volume there is not", () => ["list", at("stick.img"), "--volume", "7"], 2, "volume"],
    ["a state there is not", () => ["list", at("stick.img"), "--state", "half"], 2, "half"],
    ["nowhere to restore to", () => ["restore", at("stick.img")], 2, "Say where to restore to"],
    ["a file to restore into", () => ["restore", at("stick.img"), "--to", at("letter.txt")], 2, "is a file, not a folder"],
    ["a range that makes no sense", () => ["sweep", at("stick.img"), "--range", "90%-10%"], 2, ""],
    ["a kind there is not", () => ["sweep", at("stick.img"), "--kinds", "dreams"], 2, "dreams"],
    ["a repair over a file that is there", () => ["repair", at("noise.zip"), "--to", at("there.zip")], 2, "nothing is written over"],
    ["a repair of nothing", () => ["repair", "--to", at("new.zip")], 2, "Name one file"],
    ["an account that is no JSON", () => ["plan", "--account", at("letter.txt")], 2, ""],
  ])("%s", (_, args, code, said) => {
    const before = readdirSync(work).sort();
    const done = compass(...args());
    expect([done.code, done.out]).toEqual([code, ""]);
    expect(done.err).toContain(said);
    expect(done.err.length).toBeGreaterThan(5);
    // A person reads a sentence, and no stack.
    expect(done.err).not.toMatch(/\n\s+at /);
    expect(done.err).not.toContain("This should not have happened");
    expect(readdirSync(work).sort()).toEqual(before);
  });

  it("reads what begins like a text, and says that it may be no image", () => {
    const done = compass("inspect", at("letter.txt"));
    expect([done.code, done.err.includes("It begins like a text file")]).toEqual([0, true]);
  });

  it("and leaves what it read as it was", () => {
    const before = readFileSync(at("stick.img"));
    expect(compass("list", at("stick.img"), "--json").code).toBe(0);
    expect(compass("sweep", at("stick.img"), "--json", "--every-byte").code).toBe(0);
    expect(readFileSync(at("stick.img")).equals(before)).toBe(true);
  });

  it("what cannot be mended is said with exit code 1, and no file is made", () => {
    const done = compass("repair", at("letter.txt"), "--to", at("new.txt"));
    expect([done.code, existsSync(at("new.txt"))]).toEqual([1, false]);
    expect(done.out).toContain("not repaired");
    const checked = compass("check", at("noise.zip"), at("letter.txt"));
    expect(checked.code).toBe(1);
    expect(checked.out.split("\n").filter(Boolean).length).toBe(2);
  });
});
