import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { fixture } from "../../tests/support/volume-truth";
import { MemorySource } from "../bytes/byte-source";
import { formatById, identify, resolved, runFollow, runSummary } from "./registry";

const { files } = JSON.parse(fixture("more-files.json.gz").toString()) as {
  files: { name: string; id: string; tool: string; content: string }[];
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
