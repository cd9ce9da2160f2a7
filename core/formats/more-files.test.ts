import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { fixture } from "../../tests/support/volume-truth";
import { MemorySource } from "../bytes/byte-source";
import { examineContent, formatById, identify, resolved, runCheck, runFollow, runSummary } from "./registry";

const { files, parts } = JSON.parse(fixture("more-files.json.gz").toString()) as {
  files: { name: string; id: string; tool: string; content: string }[];
  parts: { name: string; content: string }[];
};
const bytesOf = (name: string) => Buffer.from(files.find((each) => each.name === name)?.content ?? "", "base64");
const random = seeded(5);
const NOISE = Buffer.from(Array.from({ length: 9000 }, () => Math.floor(random() * 256)));
/** Formats that a search knows by a mark far behind the beginning. */
const formatOf = (content: Buffer, id: string) => (id === "iso" ? formatById.get("iso") : identify(new MemorySource(content)));

/** Truth: each file was made by a general tool (make-more-files.ts); its length and type are the tool's. */
describe("files of further formats", () => {
  it.each(files)("$name, made by $tool, is known, and followed to its end in the midst of other bytes", ({ id, content }) => {
    const whole = Buffer.from(content, "base64");
    const found = formatOf(whole, id);
    expect(found && resolved(found, new MemorySource(whole)).id).toBe(id);
    const extent = found && runFollow(found, new MemorySource(Buffer.concat([whole, NOISE])));
    expect(extent?.size).toBe(whole.length);
    expect(["sound", "cannot-tell"]).toContain(extent?.verdict.verdict);
  });

  it.each(files)("$name cut off is never whole", ({ name, id, content }) => {
    const whole = Buffer.from(content, "base64");
    for (const share of [0.3, 0.6, 0.95]) {
      const cut = whole.subarray(0, Math.floor(whole.length * share));
      const format = formatOf(cut, id) ?? formatById.get(id);
      const extent = format && runFollow(format, new MemorySource(cut));
      expect(extent?.closed === true && extent.verdict.verdict === "sound", `${name} at ${share}`).toBe(false);
    }
  });

  it("say of themselves what they were made with", () => {
    const summary = (name: string) => {
      const content = new MemorySource(bytesOf(name));
      const format = formatOf(bytesOf(name), files.find((each) => each.name === name)?.id ?? "");
      return format ? runSummary(format, content) : {};
    };
    expect(summary("book.epub")).toMatchObject({ title: "The quiet harbour", author: "Ana Quillorand" });
    expect(summary("disc.iso")).toMatchObject({ title: "HARBOUR" });
    expect(summary("layers.psd")).toMatchObject({ width: 120, height: 80 });
    expect(summary("picture.avif")).toMatchObject({ width: 120, height: 80 });
    expect(summary("picture-big.tif")).toMatchObject({ width: 120, height: 80 });
    expect(summary("clip.3gp")).toMatchObject({ width: 96, height: 64, duration: 1000 });
    expect(summary("drawing.svg")).toMatchObject({ title: "Pier" });
    expect(summary("still.flac")).toMatchObject({ duration: 1000 });
  });
});

/** Truth: a ZIP archive that a general tool split over three files (make-more-files.ts). */
describe("an archive split over several files", () => {
  const [first, middle, last] = parts.map(({ name, content }) => ({ name, bytes: Buffer.from(content, "base64") })) as [Part, Part, Part];
  interface Part {
    readonly name: string;
    readonly bytes: Buffer;
  }
  const verdict = ({ name, bytes }: Part) => {
    const format = identify(new MemorySource(bytes), name);
    return format && { id: format.id, ...runCheck(format, new MemorySource(bytes)) };
  };

  it("is called what it is, part by part, and neither whole nor damaged", () => {
    expect(verdict(first)).toMatchObject({
      id: "zip-part",
      verdict: "cannot-tell",
      reason: expect.stringContaining("first of several parts"),
    });
    expect(verdict(middle)).toBeNull();
    expect(verdict(last)).toMatchObject({ id: "zip", verdict: "cannot-tell", reason: expect.stringContaining("last of 3 parts") });
    expect(examineContent(new MemorySource(last.bytes), last.name)).toMatchObject({ finding: "agrees", checked: false });
    expect(examineContent(new MemorySource(first.bytes), first.name)).toMatchObject({ finding: "agrees", checked: false });
  });

  it("is not seen in the end of what is none", () => {
    expect(verdict({ name: "noise.zip", bytes: NOISE })).toBeNull();
    expect(verdict({ name: "last.zip", bytes: last.bytes.subarray(0, last.bytes.length - 30) })).toBeNull();
    expect(examineContent(new MemorySource(NOISE), "noise.zip")).toMatchObject({ finding: "differs" });
  });
});
