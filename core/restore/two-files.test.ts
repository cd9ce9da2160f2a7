import { readFileSync } from "node:fs";
import { describe, expect, it } from "vitest";
import { DRAWN_STREAMS, heldStream, type StreamBytes } from "../../tests/support/drawn-streams";
import { MemorySource, readBytes } from "../bytes/byte-source";
import { LayoutSource } from "../bytes/layout";
import { NO_FACTS, NOTHING_CARRIED } from "./carried";
import { describeLeftBehind, describeNotCarried } from "./left-behind";
import { type NamedStream, twoFileLayout } from "./two-files";

/** What an independent reader found in each (tests/fixtures/make-two-files.ts says which, and how). */
const recorded = JSON.parse(readFileSync("tests/fixtures/two-files.json", "utf8")) as {
  bytes: string;
  read: { fork: number | null; finder: string | null; attributes: Record<string, string> };
}[];

function bytesOf(streams: readonly NamedStream[]): Buffer {
  const layout = twoFileLayout(streams)?.layout;
  if (!layout) throw new Error("nothing has a place in it");
  return Buffer.from(readBytes(new LayoutSource(new MemorySource(new Uint8Array()), layout), 0, layout.size));
}
const named = (streams: readonly StreamBytes[], name: string) => streams.find((each) => each.name === name)?.bytes.toString("hex");

describe("the second file of the two-file form", () => {
  it("is what an independent reader was given, and that found every fork, every attribute and the Finder's bytes in it", () => {
    for (const [index, streams] of DRAWN_STREAMS.entries()) {
      const { bytes, read } = recorded[index] as (typeof recorded)[number];
      expect(bytesOf(streams.map(heldStream)).toString("base64")).toBe(bytes);
      const fork = named(streams, "rsrc");
      expect(read.fork).toBe((fork?.length ?? 0) / 2);
      expect(read.finder).toBe(named(streams, "com.apple.FinderInfo") ?? null);
      const attributes = streams.filter(({ name }) => name !== "rsrc" && name !== "com.apple.FinderInfo");
      for (const { name, bytes: value } of attributes) expect(read.attributes[name]).toBe(value.toString("hex"));
      expect(Object.keys(read.attributes).filter((name) => name !== "com.apple.FinderInfo")).toHaveLength(attributes.length);
    }
  });

  it("begins as RFC 1740, appendix A and B, says: magic, version, entries that lie in the file and do not meet", () => {
    for (const streams of DRAWN_STREAMS) {
      const bytes = bytesOf(streams.map(heldStream));
      expect([bytes.readUInt32BE(0), bytes.readUInt32BE(4)]).toEqual([0x00051607, 0x00020000]);
      const count = bytes.readUInt16BE(24);
      const entries = Array.from({ length: count }, (_, index) => 26 + index * 12).map((at) => ({
        id: bytes.readUInt32BE(at),
        start: bytes.readUInt32BE(at + 4),
        end: bytes.readUInt32BE(at + 4) + bytes.readUInt32BE(at + 8),
      }));
      // Finder info is entry 9, the resource fork entry 2.
      expect(entries.map(({ id }) => id)).toEqual([9, 2]);
      let last = 26 + count * 12;
      for (const { start, end } of entries) {
        expect(start).toBeGreaterThanOrEqual(last);
        last = end;
      }
      expect(last).toBe(bytes.length);
    }
  });

  it("reports what has no place in it: a name or a value that is too long, and bytes nobody knows the place of", () => {
    const long = heldStream({ name: "x".repeat(128), bytes: Buffer.from("a") });
    const large = heldStream({ name: "large", bytes: Buffer.alloc(70_000) });
    const zero = heldStream({ name: "a\0b", bytes: Buffer.from("a") });
    const lost: NamedStream = { name: "lost", size: 10, layout: null };
    const kept = heldStream({ name: "kept", bytes: Buffer.from("kept") });
    const made = twoFileLayout([long, large, zero, lost, kept]);
    expect(made?.left).toEqual(["lost", "x".repeat(128), "large", "a\0b"]);
    expect(bytesOf([long, large, zero, lost, kept])).toEqual(bytesOf([kept]));
    expect(twoFileLayout([long, lost])).toBeNull();
    expect(twoFileLayout([])).toBeNull();
  });

  it("holds many attributes up to its bound, and no more", () => {
    const streams = Array.from({ length: 5000 }, (_, index) => heldStream({ name: `user.${index}`, bytes: Buffer.alloc(20, index) }));
    const made = twoFileLayout(streams);
    expect(made?.layout.size).toBeLessThanOrEqual(65_536);
    expect(made?.layout.size).toBeGreaterThan(65_000);
    const count = 5000 - (made?.left.length ?? 0);
    expect(bytesOf(streams).readUInt16BE(84 + 34)).toBe(count);
  });
});

describe("what is left behind", () => {
  const streams = ["a", "b", "c", "d", "e", "f"].map((name) => ({ name }));
  it("is said in words, and only what really does not go along", () => {
    expect(describeLeftBehind(streams, "leave")).toEqual(["6 named streams (a, b, c, d and 2 more)"]);
    expect(describeLeftBehind(streams.slice(0, 1), "leave")).toEqual(["1 named stream (a)"]);
    for (const wish of ["keep", "beside", "two-file"] as const) expect(describeLeftBehind(streams, wish)).toEqual([]);
    expect(describeLeftBehind(null, "leave")).toEqual([]);
  });

  it("is what does not stand at the destination of all a file was to carry", () => {
    const facts = { ...NO_FACTS, modified: 0, readOnly: true, hidden: true };
    expect(describeNotCarried(facts, NOTHING_CARRIED, ["a", "b"])).toEqual([
      "2 named streams (a, b)",
      "its date of change",
      "its mark “read only”",
      "its mark “hidden”",
    ]);
    const all = { modified: true, readOnly: true, hidden: true, created: true, streams: ["a"] };
    expect(describeNotCarried(facts, all, ["a", "b"])).toEqual(["1 named stream (b)"]);
    expect(describeNotCarried(NO_FACTS, NOTHING_CARRIED)).toEqual([]);
  });
});
