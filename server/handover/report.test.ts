import { readFileSync } from "node:fs";
import { Ajv2020 } from "ajv/dist/2020";
import { describe, expect, it } from "vitest";
import { type Account, EMPTY_ACCOUNT } from "../accounts/contract";
import type { Result } from "../restores/contract";
import { handoverSchema } from "./data";
import { handoverAsHtml, reportAsCsv, reportAsJson } from "./forms";
import { describeHandover, handoverOf, type Report } from "./report";

const EVIL = `<img src=x onerror="alert(1)">, "quoted"`;
const at = new Date("2026-03-12T10:00:00Z");

function report(path: string): Report {
  const account = { ...(EMPTY_ACCOUNT as Account), nameHint: EVIL };
  return {
    job: {
      id: 7,
      title: EVIL,
      client: EVIL,
      timeZone: "Europe/London",
      lastActivity: at,
      archived: false,
      lost: null,
      technician: "Ines Marrow",
      firm: "",
      number: "7/26",
      sources: 1,
      searched: true,
      lostItems: { whole: 2, partial: 1, "not-checked": 0, "name-only": 800 },
      restored: 1,
      restoredWithGaps: 0,
      running: 0,
      problems: 0,
    },
    accounts: [account],
    plan: { steps: [], against: [], warnings: [], speeds: {}, found: null },
    sources: [
      {
        id: 1,
        within: [],
        parentStoreId: null,
        path: "/images/a.img",
        name: EVIL,
        size: 10,
        container: "raw",
        tableKind: "gpt",
        connected: true,
        unreadable: [{ start: 0, end: 512 }],
        notes: [],
        volumes: [
          {
            id: 1,
            number: 0,
            offset: 0,
            length: 10,
            filesystem: "ntfs",
            label: EVIL,
            part: null,
            clusterSize: 4096,
            readable: true,
            usedBytes: 5,
            usage: [1, 2, 3],
            standing: "present",
            states: [],
            closed: null,
            readingAt: null,
            findings: [],
            profiles: [],
            sets: [],
            notes: [],
          },
        ],
      },
    ],
    passes: [
      {
        id: 1,
        sourceId: 1,
        sourceName: EVIL,
        storeId: 1,
        volumeLabel: EVIL,
        form: "volume" as const,
        place: "file-record",
        state: "done",
        wanted: "run",
        done: 1,
        total: 1,
        kinds: [],
        reach: null,
        sighted: null,
        options: {},
        foundLive: 1,
        foundLost: 1,
        activeMs: 5,
        problem: null,
        createdAt: at,
        finishedAt: at,
      },
    ],
    restores: [
      {
        id: 3,
        destination: EVIL,
        root: "/out",
        asFound: false,
        form: "files",
        wanted: "run",
        waits: false,
        state: "done",
        problem: null,
        createdAt: at,
        finishedAt: at,
        provenAt: null,
        counts: {
          files: 2,
          settled: 2,
          verified: 1,
          gaps: 1,
          same: 0,
          skipped: 0,
          failed: 0,
          since: 0,
          leftBehind: 0,
          placed: 0,
          sameGaps: 0,
          fromMemory: 0,
          bytes: 5005,
          settledBytes: 5005,
          missing: 300,
        },
        results: () => eachOf([resultAt(path), { ...resultAt("/cut.jpg"), id: 2, size: 5000, state: "gaps", gaps: GAPS }]),
      },
    ],
    now: at,
    program: { name: "Tidy Compass", version: "0", rules: 3, rulesSha256: "cd".repeat(32) },
    logHash: null,
    log: [{ id: 1, at, what: "Pass started", detail: { name: EVIL }, hash: null }],
  };
}

const GAPS = { unreadable: [{ start: 100, end: 200 }], foreign: [{ start: 1000, end: 1200 }] };
const resultAt = (path: string): Result => ({
  id: 1,
  itemId: 1,
  copyId: 1,
  path,
  condition: "whole",
  size: 5,
  state: "verified",
  since: null,
  gaps: null,
  fromDevice: true,
  output: `/out${path}`,
  aside: null,
  leftBehind: null,
  sha256: "ab".repeat(32),
  problem: null,
});
async function* eachOf(results: readonly Result[]) {
  yield* results;
}

async function whole(pieces: AsyncIterable<string>): Promise<string> {
  let text = "";
  for await (const piece of pieces) text += piece;
  return text;
}

/** RFC 4180 read back by a plain state machine, so that the writer is not its own judge. */
function readCsv(text: string): string[][] {
  const rows: string[][] = [[""]];
  let quoted = false;
  for (let i = 0; i < text.length; i += 1) {
    const row = rows[rows.length - 1] as string[];
    const character = text[i] as string;
    if (quoted && character === '"' && text[i + 1] === '"') {
      row[row.length - 1] += '"';
      i += 1;
    } else if (character === '"') quoted = !quoted;
    else if (!quoted && character === ",") row.push("");
    else if (!quoted && character === "\r" && text[i + 1] === "\n") {
      rows.push([""]);
      i += 1;
    } else row[row.length - 1] += character;
  }
  return rows.slice(0, -1);
}

describe("the handover as a file", () => {
  it.each(["client", "file"] as const)("for the %s as a page holds nothing that a name could make run", async (audience) => {
    const page = await whole(handoverAsHtml(describeHandover(report(`/${EVIL}`), audience)));
    expect(page).not.toContain("<img");
    expect(page).toContain("&#60;img src=x");
    expect(page).not.toContain("<script");
    expect(page.includes("ab".repeat(32))).toBe(audience === "file");
  });

  it.each(["client", "file"] as const)(
    "for the %s has the same words on the screen and as a page, all of them for people",
    async (audience) => {
      const document = describeHandover(report("/a & b.txt"), audience);
      const page = await whole(handoverAsHtml(document));
      const text = page
        .replace(/<style>.*?<\/style>/s, "")
        .replace(/<[^>]+>/g, "\n")
        .replace(/&#(\d+);/g, (_, code: string) => String.fromCharCode(Number(code)));
      const screen = await handoverOf(document);
      const words = screen.sections.flatMap(({ title, blocks }) => [
        title,
        ...blocks.flatMap((block) =>
          block.kind === "text"
            ? [block.text]
            : block.kind === "list"
              ? block.items.flatMap((item) => [item.text, ...item.below])
              : block.kind === "table"
                ? [...block.head, ...block.rows.flat()]
                : block.lines,
        ),
      ]);
      expect(words.length).toBeGreaterThan(15);
      for (const each of words) expect(text).toContain(each);
      for (const inner of ["[object Object]", "known-places", "file-record", "undefined", "null", '{"', "1773309600000"])
        expect(text).not.toContain(inner);
    },
  );

  it("says of a file with gaps how much is missing, and never that it is complete", async () => {
    const { sections } = await handoverOf(describeHandover(report("/a.txt"), "client"));
    const table = sections.flatMap(({ blocks }) => blocks).find((block) => block.kind === "table");
    expect(table).toMatchObject({
      rows: [
        ["a.txt", "verified, complete"],
        ["cut.jpg", "with gaps: 300 B of 4.9 KiB are missing"],
      ],
    });
  });

  it("breaks lost files down by what is left of them: names alone are not counted as files", async () => {
    const text = JSON.stringify(await handoverOf(describeHandover(report("/a.txt"), "client")));
    expect(text).toContain("3 lost files were found with something left of their content");
    expect(text).toContain("Of 800 more only the name is known.");
    expect(text).not.toContain("803");
  });

  it("as a sheet reads back as it was, with names full of commas, quotes and line ends", async () => {
    const path = '/a, "b"\r\nc.txt';
    const rows = readCsv(await whole(reportAsCsv(report(path))));
    expect(rows).toHaveLength(3);
    expect(rows[0]?.slice(0, 3)).toEqual(["restore", "destination", "file"]);
    expect(rows[1]?.[2]).toBe(path);
    expect(rows[1]?.[6]).toBe("ab".repeat(32));
    expect(rows[2]?.slice(3, 6)).toEqual(["with gaps", "5000", "300"]);
  });

  it.each(["=cmd()", "+1", "-1", "@sum"])("as a sheet never begins a field with the formula %s", async (formula) => {
    expect(readCsv(await whole(reportAsCsv(report(formula))))[1]?.[2]).toBe(`'${formula}`);
  });

  it("as data is as its published form says, by another validator, and that is the present one", async () => {
    const published = JSON.parse(readFileSync("docs/handover.schema.json", "utf8"));
    expect(published).toEqual(JSON.parse(JSON.stringify(handoverSchema())));
    const validate = new Ajv2020({ strict: false, formats: { "date-time": (text: string) => !Number.isNaN(Date.parse(text)) } }).compile(
      published,
    );
    const data = JSON.parse(await whole(reportAsJson(report("/a"))));
    expect(validate(data), JSON.stringify(validate.errors)).toBe(true);
    // It can fail: what is missing or of another kind is found.
    expect(validate({ ...data, log: [{ at: "yesterday" }] })).toBe(false);
    expect(validate({ ...data, job: undefined })).toBe(false);
    expect(validate({ ...data, version: 2 })).toBe(false);
  });

  it("as data holds everything but the drawing of the chart", async () => {
    const data = JSON.parse(await whole(reportAsJson(report("/a")))) as {
      sources: { volumes: Record<string, unknown>[] }[];
      restores: { results: unknown[] }[];
      log: unknown[];
    };
    expect(data.sources[0]?.volumes[0]).not.toHaveProperty("usage");
    expect([data.restores.length, data.restores[0]?.results.length, data.log.length]).toEqual([1, 2, 1]);
  });
});
