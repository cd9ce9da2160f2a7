import { afterEach, describe, expect, it } from "vitest";
import { MemorySource } from "../bytes/byte-source";
import { Malformed } from "../bytes/malformed";
import { PastEnd } from "../bytes/past-end";
import type { Format } from "./format";
import { reportFaultsTo } from "./reader-faults";
import { formatById, runFollow, runSummary } from "./registry";

const reported: string[] = [];
const failing = (error: Error): Format => ({
  ...(formatById.get("png") as Format),
  follow: () => {
    throw error;
  },
  summarise: () => {
    throw error;
  },
});
const content = new MemorySource(new Uint8Array(10));

describe("a reader that fails", () => {
  afterEach(() => {
    reportFaultsTo((reader, error) => {
      throw new Error(`the reader “${reader}” failed: ${error.stack}`, { cause: error });
    });
    reported.length = 0;
  });

  it("over damaged bytes says that they are damaged, and nothing is reported", () => {
    reportFaultsTo((reader) => reported.push(reader));
    expect(runFollow(failing(new PastEnd(10, 4, 10)), content)?.verdict).toMatchObject({ verdict: "damaged", at: 10 });
    expect(runFollow(failing(new Malformed("no code begins so")), content)?.verdict).toMatchObject({ verdict: "damaged", at: 0 });
    expect(runSummary(failing(new PastEnd(10, 4, 10)), content)).toEqual({});
    expect(reported).toEqual([]);
  });

  it("by a fault of its own claims nothing of the file, and is reported", () => {
    reportFaultsTo((reader, error) => reported.push(`${reader}: ${error.message}`));
    for (const fault of [new TypeError("x is undefined"), new RangeError("Invalid array length")]) {
      expect(runFollow(failing(fault), content)?.verdict).toMatchObject({ verdict: "cannot-tell" });
      expect(runSummary(failing(fault), content)).toEqual({});
    }
    expect(reported).toEqual(["png: x is undefined", "png: x is undefined", "png: Invalid array length", "png: Invalid array length"]);
  });

  it("fails the test that brings it about", () => {
    expect(() => runFollow(failing(new TypeError("x is undefined")), content)).toThrow("the reader “png” failed");
  });
});
