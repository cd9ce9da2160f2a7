import initSql, { type SqlJsStatic } from "sql.js";
import { beforeAll, describe, expect, it } from "vitest";
import { openFixture, recordsFiles, recordsTruth } from "../../../tests/support/records-truth";
import { MemorySource } from "../../bytes/byte-source";
import { toEnd } from "../../bytes/stepwise";
import { RecordReader } from "../records";
import { RowList } from "../row-list";
import { readEntries } from "./entries";
import type { Entry } from "./entry";
import { NO_TALK } from "./entry-list";
import type { EntryKind } from "./kinds";
import { mentionedFiles } from "./mentioned";
import type { RecordRow, RecordTable } from "./table";

/** The present of these tests, in seconds since 1970. */
const NOW = Date.UTC(2026, 2, 12) / 1000;

let sql: SqlJsStatic;
beforeAll(async () => {
  sql = await initSql();
});

function tablesOf(reader: RecordReader): RecordTable[] {
  const tables = new Map<string, { name: string; columns: readonly string[]; rows: RowList }>();
  for (const row of reader.rows()) {
    const name = row.table ?? `without a name, from page ${row.root} on`;
    if (name.startsWith("sqlite_")) continue;
    const table = tables.get(name) ?? { name, columns: row.columns, rows: new RowList() };
    table.rows.append(row);
    tables.set(name, table);
  }
  return [...tables.values()];
}

/** The rows of tables as what they are, all of them at once. */
function entriesIn(tables: readonly RecordTable[], now = NOW) {
  const { byKind, talks, why } = toEnd(readEntries(tables, now));
  return {
    why,
    talks: talks.longest(talks.size),
    byKind: new Map<EntryKind, Entry[]>([...byKind].map(([kind, list]) => [kind, [...list]])),
    lists: byKind,
  };
}

/** What is read of a database that SQLite itself (the package sql.js) makes. */
function entriesOf(
  schema: string,
  rows: Readonly<Record<string, readonly (readonly (string | number | null)[])[]>>,
): ReturnType<typeof entriesIn> {
  const database = new sql.Database();
  database.run(schema);
  for (const [table, all] of Object.entries(rows))
    for (const row of all) database.run(`insert into ${table} values(${row.map(() => "?").join(",")})`, [...row]);
  const reader = RecordReader.open({ main: new MemorySource(database.export()), log: null, journal: null }, { deleted: true });
  database.close();
  return entriesIn(tablesOf(reader as RecordReader));
}

const WORDS = ["tide", "lantern", "orchard", "rivet", "saddle", "mortar", "quill", "ferry", "copper", "needle"];
const said = (i: number) => `${WORDS[i % 10]} and ${WORDS[(i * 7 + 3) % 10]} number ${i}, until tomorrow`;
const times = (count: number, step: number, from = Date.UTC(2025, 3, 1)) => Array.from({ length: count }, (_, i) => from + i * step);

describe("messages", () => {
  it.each(["plain", "small-pages", "large-pages", "log", "hot-journal"] as const)(
    "of %s are those SQLite's own join gives, with who wrote them",
    { tags: "long" },
    (name) => {
      const truth = recordsTruth(name);
      const people = new Map(truth.live.people?.map((row) => [row[0], row[2] ?? row[1]]));
      const tables = tablesOf(openFixture(recordsFiles(name), true) as RecordReader);
      const { byKind, why } = entriesIn(tables, Date.now() / 1000);
      expect(why.find(({ kind }) => kind === "messages")?.table).toBe("notes");
      const messages = byKind.get("messages") ?? [];
      const live = messages.filter(({ row }) => row.state === "live").map(({ row, who, text, at }) => [row.rowid, who, text, at]);
      const notes = (truth.live.notes ?? []).filter((row) => row[3] !== null && row[3] !== "");
      const wanted = notes.map((row) => [row[0], people.get(row[2] ?? null) ?? null, row[3], row[4]]);
      const order = (a: readonly unknown[], b: readonly unknown[]) => Number(a[0]) - Number(b[0]);
      expect(live.sort(order)).toEqual(wanted.sort(order));
      // Of deleted ones none is lost on the way from the table, and most of those whose record stands are there.
      const gone = messages.filter(({ row }) => row.state === "deleted");
      const rows = [...(tables.find((each) => each.name === "notes")?.rows ?? [])];
      expect(gone).toHaveLength(rows.filter(({ state, values }) => state === "deleted" && values[3]).length);
      const standing = (truth.deleted.notes ?? []).filter(({ row, stands }) => stands && row[3]);
      expect(standing.filter(({ row }) => gone.some(({ text }) => text === row[3])).length).toBeGreaterThan(standing.length * 0.8);
    },
  );

  it("stand in conversations, named by their title, else by who wrote most in them", () => {
    const { byKind, talks } = entriesOf(
      "create table persons(id integer primary key, nick text, phone text); create table threads(id integer primary key, subject text); create table posts(id integer primary key, thread_id integer, person_id integer, words text, at integer)",
      {
        persons: [
          [1, "Ada", "+00 555 0101"],
          [2, null, "+00 555 0102"],
          [3, "Cleo", "+00 555 0103"],
        ],
        threads: [
          [1, "The dome"],
          [2, null],
        ],
        posts: times(60, 3_600_000).map((at, i) => [i + 1, i % 20 === 19 ? null : 1 + (i % 2), 1 + (i % 3), said(i), at / 1000]),
      },
    );
    const messages = byKind.get("messages") ?? [];
    expect(messages).toHaveLength(60);
    expect(new Set(messages.map(({ who }) => who))).toEqual(new Set(["Ada", "+00 555 0102", "Cleo"]));
    expect(talks.map(({ label, entries }) => [label, entries])).toEqual([
      ["The dome", 30],
      [expect.stringMatching(/Ada|Cleo|0102/), 27],
      ["Not known in which", 3],
    ]);
    expect(talks.at(-1)?.key).toBe(NO_TALK);
    expect(messages[0]?.at).toBe(Date.UTC(2025, 3, 1));
  });

  it("are searched to the end of the longest of them, by who wrote them, and by when", () => {
    const far = `${"word ".repeat(30_000)}needle`;
    const { lists } = entriesOf("create table t(a integer primary key, b text, c text, d integer)", {
      t: times(50, 86_400_000).map((at, i) => [i + 1, `person${i % 4}@mail.example`, i === 20 ? far : said(i), at]),
    });
    const list = lists.get("messages");
    const all = { words: "", only: "all", talk: "", who: "", since: null, until: null } as const;
    const found = (query: object) => [...(list?.find({ ...all, ...query }) ?? [])].map((place) => list?.at(place)?.row.rowid);
    expect(found({ words: "NEEDLE", since: Date.UTC(2025, 3, 21), until: Date.UTC(2025, 3, 22) })).toEqual([21]);
    expect(found({ words: "person2@MAIL" })).toHaveLength(12);
    expect(found({ who: "person2@mail.example" })).toHaveLength(12);
    expect(found({ who: "nobody@mail.example" })).toEqual([]);
    expect(found({ only: "deleted" })).toEqual([]);
    expect(found({ since: Date.UTC(2025, 3, 11), until: Date.UTC(2025, 3, 13) })).toEqual([11, 12]);
  });

  it("are known by what stands in the columns where names say nothing", () => {
    const { byKind } = entriesOf("create table t(a integer primary key, b text, c text, d integer)", {
      t: times(50, 60_000).map((at, i) => [i + 1, `person${i % 4}@mail.example`, said(i), at]),
    });
    const [first] = byKind.get("messages") ?? [];
    expect(first).toMatchObject({ who: "person0@mail.example", text: said(0), at: Date.UTC(2025, 3, 1) });
  });

  it("are not found in what only has texts and times", () => {
    const { byKind } = entriesOf(
      "create table log(id integer primary key, level text, line text, at integer); create table settings(name text, value text)",
      {
        log: times(50, 1000).map((at, i) => [i + 1, i % 2 ? "info" : "warning", `Started the service number ${i}`, at]),
        settings: [
          ["home", "C:\\Users\\a\\b.txt"],
          ["last", "C:\\Users\\a\\c.txt"],
          ["other", "C:\\Users\\a\\d.txt"],
        ],
      },
    );
    expect([...byKind.keys()]).toEqual([]);
  });

  it("whose person's row is gone say so, and are not given to another one", () => {
    const { byKind } = entriesOf(
      "create table people(id integer primary key, name text); create table messages(id integer primary key, people_id integer, body text, sent integer)",
      {
        people: [[1, "Ada Quill"]],
        messages: times(40, 60_000).map((at, i) => [i + 1, 1 + (i % 2), said(i), at]),
      },
    );
    const messages = byKind.get("messages") ?? [];
    expect(messages.filter(({ who }) => who === "Ada Quill")).toHaveLength(20);
    expect(messages.filter(({ who }) => who === null)).toHaveLength(20);
  });
});

describe("visits", () => {
  // Microseconds from 1601 to 1970: 369 years of which 89 are leap years (calendar arithmetic).
  const SINCE_1601 = (369 * 365 + 89) * 86_400_000_000;

  it("lead to their page by its row; a page no visit leads to any more is given by its last visit", () => {
    const { byKind } = entriesOf(
      "create table urls(id integer primary key, url text, title text, last_visit integer); create table visits(id integer primary key, url integer, visit_time integer)",
      {
        urls: times(12, 60_000).map((at, i) => [
          i + 1,
          `https://site${i % 3}.example/page/${i}`,
          `Page ${i} of it`,
          SINCE_1601 + at * 1000,
        ]),
        visits: times(30, 60_000).map((at, i) => [i + 1, 1 + (i % 10), SINCE_1601 + at * 1000]),
      },
    );
    const visits = byKind.get("visits") ?? [];
    expect(visits.filter(({ lastVisit }) => !lastVisit)).toHaveLength(30);
    const last = visits.filter(({ lastVisit }) => lastVisit);
    expect(last.map(({ address }) => address)).toEqual(["https://site1.example/page/10", "https://site2.example/page/11"]);
    expect(visits[0]).toMatchObject({ address: "https://site0.example/page/0", title: "Page 0 of it", at: Date.UTC(2025, 3, 1) });
  });

  it("are known with the address in the row itself; bookmarks are none; sites a profile kept things of are listed as such", () => {
    const { byKind, why } = entriesOf(
      "create table history(id integer primary key, address text, name text, seen real); create table bookmarks(id integer primary key, address text, added real); create table icons(id integer primary key, host text, image blob)",
      {
        // Seconds since 2001.
        history: times(20, 60_000).map((at, i) => [i + 1, `http://a.example/${i}`, said(i), at / 1000 - 978_307_200]),
        bookmarks: times(20, 60_000).map((at, i) => [i + 1, `http://b.example/${i}`, at / 1000 - 978_307_200]),
        icons: WORDS.map((word, i) => [i + 1, `${word}.example`, null]),
      },
    );
    expect(why.map(({ table, kind }) => [table, kind]).sort()).toEqual([
      ["history", "visits"],
      ["icons", "sites"],
    ]);
    expect(byKind.get("visits")?.[0]).toMatchObject({ address: "http://a.example/0", at: Date.UTC(2025, 3, 1) });
    expect(byKind.get("sites")).toHaveLength(10);
  });
});

describe("files, contacts and notes", () => {
  const sent = () =>
    entriesOf(
      `create table contacts(id integer primary key, handle text, display_name text); create table messages(id integer primary key, contact_id integer, body text, sent integer);
       create table attachments(id integer primary key, message_id integer, file_name text, mime_type text, file_size integer, kept text)`,
      {
        contacts: WORDS.slice(0, 4).map((word, i) => [i + 1, `${word}@mail.example`, `${word} of the hill`]),
        messages: times(40, 60_000).map((at, i) => [
          i + 1,
          1 + (i % 4),
          i === 9 ? "See rota.csv and www.example.org, e.g. the Plan.Docx there" : said(i),
          at,
        ]),
        attachments: [
          [1, 3, "trails 302.jpg", "image/jpeg", 31_910, "C:\\Users\\a\\Received\\trails 302.jpg"],
          [2, 5, "moon.png", "image/png", null, null],
          [3, 900, "gone.pdf", "application/pdf", 12, null],
        ],
      },
    );

  it("come with their messages, and have their sender and time from them", () => {
    const { byKind } = sent();
    const files = byKind.get("transfers") ?? [];
    expect(files).toHaveLength(3);
    expect(files[0]).toMatchObject({
      who: "orchard of the hill",
      at: Date.UTC(2025, 3, 1, 0, 2),
      files: [{ name: "trails 302.jpg", size: 31_910, path: "C:\\Users\\a\\Received\\trails 302.jpg" }],
    });
    // Its message is gone: nobody says who sent it, and when.
    expect(files[2]).toMatchObject({ who: null, at: null, files: [{ name: "gone.pdf" }] });
    const messages = byKind.get("messages") ?? [];
    expect(messages.filter((each) => each.files.length > 0).map(({ row }) => row.rowid)).toEqual([3, 5]);
    expect(byKind.get("contacts")?.[0]).toMatchObject({ title: "tide of the hill", details: [["handle", "tide@mail.example"]] });
  });

  it("are listed once with the names that stand in texts, and no site or abbreviation is taken for one", () => {
    const { byKind } = sent();
    const isExtension = (extension: string) => ["csv", "docx", "jpg", "png", "pdf"].includes(extension);
    const { files } = toEnd(mentionedFiles([...byKind.values()].flat(), isExtension));
    expect(files.map(({ name, inText }) => [name, inText])).toEqual([
      ["trails 302.jpg", false],
      ["moon.png", false],
      ["gone.pdf", false],
      ["rota.csv", true],
      ["Plan.Docx", true],
    ]);
  });

  it("notes are long texts with a time that nobody sent", () => {
    const { byKind } = entriesOf("create table entries(id integer primary key, title text, content text, created integer)", {
      entries: times(8, 86_400_000).map((at, i) => [i + 1, `Night ${i}`, `${said(i)}. ${said(i + 1)}.`, at / 1000]),
    });
    expect(byKind.get("notes")?.[0]).toMatchObject({ title: "Night 0", text: `${said(0)}. ${said(1)}.` });
  });
});

describe("hostile tables", () => {
  it("with any values in any columns neither stop nor break the reading", () => {
    let seed = 7;
    const next = (below: number) => {
      seed = (Math.imul(seed, 1_664_525) + 1_013_904_223) >>> 0;
      return seed % below;
    };
    const values = [
      () => null,
      () => undefined,
      () => next(5),
      () => -next(2 ** 31),
      () => 1e300,
      () => Number.NaN,
      () => 2n ** 63n - 1n,
      () => "/".repeat(500),
      () => "a.".repeat(300),
      () => "https://",
      () => `${"@".repeat(next(50))}.jpg`,
      () => "x".repeat(next(2000)),
      () => new Uint8Array(next(9)),
      () => Date.UTC(2025, 1, 1) + next(1e9),
    ] as const;
    const names = ["id", "message_id", "body", "time", "url", "file_name", "host", "talk_id", "person", "size", "title"];
    for (let round = 0; round < 150; round += 1) {
      const tables = Array.from({ length: 1 + next(4) }, (_, t): RecordTable => {
        const columns = Array.from({ length: 1 + next(6) }, () => names[next(names.length)] as string);
        const kinds = columns.map(() => (next(3) === 0 ? -1 : next(values.length)));
        const rows = Array.from(
          { length: next(60) },
          (_, i): RecordRow => ({
            values: kinds.map((kind) => (values[kind < 0 ? next(values.length) : kind] as () => string)()),
            rowid: next(4) === 0 ? null : i,
            state: next(2) === 0 ? "live" : "deleted",
            confidence: "part",
            uncommitted: false,
            former: false,
            at: 0,
            from: "main",
          }),
        );
        return { name: ["messages", "urls", "files", "talks"][t] as string, columns, rows: RowList.of(rows) };
      });
      const { byKind, talks } = entriesIn(tables);
      for (const entries of byKind.values())
        for (const { at } of entries) expect(at === null || Number.isFinite(new Date(at).getTime())).toBe(true);
      expect(talks.reduce((sum, { entries }) => sum + entries, 0)).toBe(byKind.get("messages")?.length ?? 0);
      toEnd(mentionedFiles([...byKind.values()].flat(), () => true));
    }
  });
});

describe("a database whose first page is gone", () => {
  it("is read by what stands in its columns: every message with who wrote it, though no name of a table or column is left", {
    tags: "long",
  }, () => {
    const truth = recordsTruth("first-page-zeroed");
    const people = new Map(truth.live.people?.map((row) => [row[0], row[2] ?? row[1]]));
    const notes = (truth.live.notes ?? []).filter((row) => row[3] !== null && row[3] !== "");
    const wanted = new Set(notes.map((row) => JSON.stringify([row[3], row[4], people.get(row[2] ?? null) ?? null])));
    const { byKind, why } = entriesIn(tablesOf(openFixture(recordsFiles("first-page-zeroed"), true) as RecordReader), Date.now() / 1000);
    const live = (byKind.get("messages") ?? []).filter(({ row }) => row.state === "live");
    expect(live.length).toBeGreaterThan(notes.length * 0.9);
    expect(live.filter(({ text, at, who }) => !wanted.has(JSON.stringify([text, at, who])))).toEqual([]);
    expect(why.find(({ kind }) => kind === "messages")?.why.join("; ")).toMatch(/column \d+ is what was written/);
  });
});
