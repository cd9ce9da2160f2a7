import { describe, expect, it } from "vitest";
import { type Account, EMPTY_ACCOUNT, paragraph } from "../accounts/contract";
import { type Report, reportAsCsv, reportAsHtml, reportAsJson } from "./report";

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
      sources: 1,
      lostItems: 1,
      restored: 1,
      running: 0,
      problems: 0,
    },
    accounts: [account],
    plan: { steps: [], against: [], warnings: [], found: null },
    told: [paragraph(account, "Europe/London")],
    sources: [
      {
        id: 1,
        path: "/images/a.img",
        name: EVIL,
        size: 10,
        container: "raw",
        tableKind: "gpt",
        connected: true,
        notes: [],
        volumes: [
          {
            id: 1,
            number: 0,
            offset: 0,
            length: 10,
            filesystem: "ntfs",
            label: EVIL,
            clusterSize: 4096,
            readable: true,
            usedBytes: 5,
            usage: [1, 2, 3],
            standing: "present",
            closed: null,
            readingAt: null,
            findings: [],
            profiles: [],
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
        volumeId: 1,
        volumeLabel: EVIL,
        place: "file-record",
        state: "done",
        wanted: "run",
        done: 1,
        total: 1,
        unreadable: [],
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
        state: "done",
        problem: null,
        createdAt: at,
        finishedAt: at,
        results: [
          {
            id: 1,
            itemId: 1,
            path,
            condition: "whole",
            size: 5,
            state: "verified",
            output: `/out${path}`,
            sha256: "ab".repeat(32),
            problem: null,
          },
        ],
      },
    ],
    log: [{ id: 1, at, what: "Pass started", detail: { name: EVIL } }],
  };
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
  it("as a page holds nothing that a name could make run", () => {
    const page = reportAsHtml(report(`/${EVIL}`));
    expect(page).not.toContain("<img");
    expect(page).toContain("&#60;img src=x");
    expect(page).not.toContain("<script");
    expect(page).toContain("ab".repeat(32));
  });

  it("as a sheet reads back as it was, with names full of commas, quotes and line ends", () => {
    const path = '/a, "b"\r\nc.txt';
    const rows = readCsv(reportAsCsv(report(path)));
    expect(rows).toHaveLength(2);
    expect(rows[0]?.slice(0, 3)).toEqual(["restore", "destination", "file"]);
    expect(rows[1]?.[2]).toBe(path);
    expect(rows[1]?.[5]).toBe("ab".repeat(32));
  });

  it.each(["=cmd()", "+1", "-1", "@sum"])("as a sheet never begins a field with the formula %s", (formula) => {
    expect(readCsv(reportAsCsv(report(formula)))[1]?.[2]).toBe(`'${formula}`);
  });

  it("as data holds everything but the drawing of the chart", () => {
    const data = JSON.parse(reportAsJson(report("/a"))) as {
      sources: { volumes: Record<string, unknown>[] }[];
      restores: unknown[];
      log: unknown[];
    };
    expect(data.sources[0]?.volumes[0]).not.toHaveProperty("usage");
    expect([data.restores.length, data.log.length]).toEqual([1, 1]);
  });
});
