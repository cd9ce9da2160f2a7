import { describe, expect, it } from "vitest";
import { dateInName, datesInName, type NamedDate, readDates, withoutDates } from "./named-dates";

const iso = (at: number | undefined) => (at === undefined ? null : new Date(at).toISOString().slice(0, 19));
const day = (at: number | undefined) => iso(at)?.slice(0, 10);

/** The ways of writing are common practice, no published source; the words of months are those of the Unicode locale data. */
describe("dates in names", () => {
  it.each([
    ["Backup 2026-02-01", "2026-02-01T00:00:00", "2026-02-01T23:59:59"],
    ["2026_04_12", "2026-04-12T00:00:00", "2026-04-12T23:59:59"],
    ["pictures.20260220", "2026-02-20T00:00:00", "2026-02-20T23:59:59"],
    ["Kopie 3.2.26", "2026-02-03T00:00:00", "2026-02-03T23:59:59"],
    ["Kopie 3. 2. 2026", "2026-02-03T00:00:00", "2026-02-03T23:59:59"],
    ["copy 31/12/2025", "2025-12-31T00:00:00", "2025-12-31T23:59:59"],
    ["copy 12-31-2025", "2025-12-31T00:00:00", "2025-12-31T23:59:59"],
    ["copy 31122025", "2025-12-31T00:00:00", "2025-12-31T23:59:59"],
    ["scans 2026-04", "2026-04-01T00:00:00", "2026-04-30T23:59:59"],
    ["scans 04-2026", "2026-04-01T00:00:00", "2026-04-30T23:59:59"],
    ["Backup set 2026-01-04 180117", "2026-01-04T18:01:17", "2026-01-04T18:01:17"],
    ["Backup 2026-01-04 18-01-17", "2026-01-04T18:01:17", "2026-01-04T18:01:17"],
    ["Backup 04.01.2026 18.01.17", "2026-01-04T18:01:17", "2026-01-04T18:01:17"],
    ["dump_2026-01-04T18-01", "2026-01-04T18:01:00", "2026-01-04T18:01:00"],
    ["from 2020-01-01 to 2026-05-04", "2026-05-04T00:00:00", "2026-05-04T23:59:59"],
    ["12 March 2026", "2026-03-12T00:00:00", "2026-03-12T23:59:59"],
    ["Backup of March 12th, 2026", "2026-03-12T00:00:00", "2026-03-12T23:59:59"],
    ["12-Mar-26", "2026-03-12T00:00:00", "2026-03-12T23:59:59"],
    ["2026-Mar-12 1830", "2026-03-12T18:30:00", "2026-03-12T18:30:00"],
    ["Sicherung vom 12. März 2026", "2026-03-12T00:00:00", "2026-03-12T23:59:59"],
    ["1er février 2026", "2026-02-01T00:00:00", "2026-02-01T23:59:59"],
    ["copia del 3 de diciembre de 2025", "2025-12-03T00:00:00", "2025-12-03T23:59:59"],
    ["kopia z 7 października 2025", "2025-10-07T00:00:00", "2025-10-07T23:59:59"],
    ["záloha 7. ledna 2026", "2026-01-07T00:00:00", "2026-01-07T23:59:59"],
    ["копия от 24 марта 2026 г.", "2026-03-24T00:00:00", "2026-03-24T23:59:59"],
    ["фото май 2026", "2026-05-01T00:00:00", "2026-05-31T23:59:59"],
    ["копія 7 жовтня 2025", "2025-10-07T00:00:00", "2025-10-07T23:59:59"],
    ["αντίγραφο 3 Μαρτίου 2026", "2026-03-03T00:00:00", "2026-03-03T23:59:59"],
    ["2026年3月12日", "2026-03-12T00:00:00", "2026-03-12T23:59:59"],
    ["Fotos Dezember 2025", "2025-12-01T00:00:00", "2025-12-31T23:59:59"],
    ["2025 août", "2025-08-01T00:00:00", "2025-08-31T23:59:59"],
  ])("in %s are read", (name, from, until) => {
    const found = dateInName(name);
    expect([iso(found?.at), iso(found?.end)]).toEqual([from, until]);
    // Names come in composed and decomposed form.
    expect(dateInName(name.normalize("NFD"))?.at).toBe(found?.at);
  });

  it.each([
    "Photos",
    "v1.2.3",
    "99.99.99",
    "report 12345678901",
    "room 2026",
    "IMG_0139",
    "Backup set 2026",
    "two years ago 2026",
    "part 991399",
    "market 2026",
  ])("are not seen in %s", (name) => {
    expect(dateInName(name)).toBeNull();
  });

  it("of one kind and another differ in the rest of the name alone", () => {
    const names = [
      "site-20260104-180117-full",
      "site-2026-01-04-full",
      "site-4.1.2026-full",
      "site-4 Jan 2026 18h01-full",
      "site-January 2026-full",
      "site-260104-full",
    ];
    expect([...new Set(names.map(withoutDates))]).toEqual(["site--full"]);
    expect(withoutDates("no date")).toBe("no date");
  });

  it("can mean several days, and are looked for quickly in hostile names", () => {
    expect(datesInName("03-04-2026").map(({ at, order }) => [day(at), order])).toEqual([
      ["2026-04-03", "day-first"],
      ["2026-03-04", "month-first"],
    ]);
    expect(datesInName("3.4.26").map(({ at }) => day(at))).toEqual(["2026-04-03"]);
    expect(datesInName("26-03-12").map(({ at }) => day(at))).toEqual(["2012-03-26", "2026-03-12"]);
    const long = 60_000;
    for (const name of [
      "1".repeat(long),
      "a1".repeat(long),
      "12 ".repeat(long),
      "12mar".repeat(long),
      "1. ".repeat(long),
      "a".repeat(long),
    ]) {
      const began = performance.now();
      dateInName(name);
      withoutDates(name);
      expect(performance.now() - began).toBeLessThan(1000);
    }
  });
});

describe("dates that can mean several days", () => {
  const DAY = 24 * 3_600_000;
  /** A thing is named on the day it is known of, or later. */
  const gap = ({ end }: NamedDate, known: number) => (known > end + DAY ? Number.POSITIVE_INFINITY : Math.max(0, end - known));
  const read = (all: [string, string | null][]) =>
    readDates(
      all.map(([name, known]) => ({ name, known: known === null ? null : Date.parse(known) })),
      gap,
    ).map(({ date, others }) => [day(date?.at), ...others.map(({ at }) => day(at))]);

  it("are read in the one order in which all of them can be", () => {
    expect(
      read([
        ["03-04-2026", null],
        ["12-31-2025", null],
        ["02-05-2026", null],
      ]),
    ).toEqual([["2026-03-04"], ["2025-12-31"], ["2026-02-05"]]);
    expect(read([["03-04-2026", "2026-03-20"]])).toEqual([["2026-04-03"]]);
    expect(read([["26-03-12", "2026-03-11"]])).toEqual([["2026-03-12"]]);
    expect(read([["260312", "2026-03-11"]])).toEqual([["2026-03-12"]]);
  });

  it("are taken for the day nearest to what is known, and the other is noted; nothing known: days before months", () => {
    expect(read([["03-04-2026", "2026-03-02"]])).toEqual([["2026-03-04", "2026-04-03"]]);
    expect(read([["03-04-2026", null]])).toEqual([["2026-04-03", "2026-03-04"]]);
    expect(read([["05-05-2026", null]])).toEqual([["2026-05-05"]]);
    expect(
      read([
        ["2026-03-04", "2020-01-01"],
        ["old", null],
      ]),
    ).toEqual([["2026-03-04"], [undefined]]);
  });
});
