/**
 * Builds `demo/images/members-chat.json.gz`: the profile of the members' chat as it stood on three disks of the secretary's: installed anew a month ago,
 * the old laptop's with what was cleared there, and a backup from before. Run it with `npx tsx demo/build-chat.ts`; the databases are SQLite's own
 * (the package sql.js).
 */
import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import initSql, { type Database } from "sql.js";
import { seeded } from "./draw";

const SCHEMA = `
create table members(id integer primary key, handle text not null unique, shown text not null);
create table talks(id integer primary key, guid text not null unique, title text not null);
create table messages(id integer primary key autoincrement, guid text not null, talk_id integer not null, member_id integer not null, body text, sent_ms integer not null, edited_ms integer);
create unique index messages_guid on messages(guid);
create index messages_talk on messages(talk_id, sent_ms);`;

const MEMBERS = ["Mo Linden", "Maribel Tarn", "Oskar Veld", "Ines Halloran", "Tove Brask", "Ravi Sundar"];
const TALKS = ["Committee", "Observing nights", "Dome and rail", "Newsletter"];
const LINES = [
  "Who has the key to the dome on Friday?",
  "The rail is at the workshop until Tuesday.",
  "R Leonis was at 6.4 last night, I have three estimates.",
  "Can somebody bring the spare counterweight?",
  "The school would like a tour in the first week of May.",
  "Clouds from the west, we close at eleven.",
  "The treasurer asks for the receipt of the mirror cell.",
  "Seeing was poor, but the cluster was worth it.",
  "The draft of the application is in the shared folder.",
  "I left the red torch beside the log book.",
  "The newsletter goes to print on Thursday, one page is free.",
  "Thank you all for the anniversary night.",
];
const DAY = 86_400_000;

interface Message {
  readonly guid: string;
  readonly talk: number;
  readonly member: number;
  readonly body: string;
  readonly sent: number;
}

/** Everything that was ever said, from 2024-09-01 on, some six messages a day. */
function said(): Message[] {
  const random = seeded(77);
  const pick = (count: number) => Math.floor(random() * count);
  const all: Message[] = [];
  for (let sent = Date.UTC(2024, 8, 1, 7); sent < Date.UTC(2026, 2, 12); sent += 1 + pick(8 * 3_600_000)) {
    const guid = Math.floor(random() * 2 ** 48)
      .toString(16)
      .toUpperCase()
      .padStart(12, "0");
    const body = `${LINES[pick(LINES.length)]}${pick(5) === 0 ? ` ${LINES[pick(LINES.length)]}` : ""}`;
    all.push({ guid, talk: 1 + pick(TALKS.length), member: 1 + pick(MEMBERS.length), body, sent });
  }
  return all;
}

/** A database with some of it. @param order of the members, whose numbers differ from one installation to the next */
function profile(database: Database, messages: readonly Message[], order: readonly number[]): void {
  database.run("pragma secure_delete = off");
  database.run(SCHEMA);
  for (const member of order)
    database.run("insert into members(handle, shown) values(?, ?)", [`member${member}@larkfield.example`, MEMBERS[member] as string]);
  for (const [i, title] of TALKS.entries()) database.run("insert into talks(guid, title) values(?, ?)", [`TALK${i}`, title]);
  database.run("begin");
  for (const { guid, talk, member, body, sent } of messages)
    database.run("insert into messages(guid, talk_id, member_id, body, sent_ms) values(?, ?, ?, ?, ?)", [
      guid,
      talk,
      order.indexOf(member - 1) + 1,
      body,
      sent,
    ]);
  database.run("commit");
}

async function main(): Promise<void> {
  const sql = await initSql();
  const all = said();
  const until = (date: number, from = 0) => all.filter(({ sent }) => sent >= from && sent < date);
  const bytesOf = (messages: readonly Message[], order: readonly number[], clear: readonly string[]) => {
    const database = new sql.Database();
    profile(database, messages, order);
    for (const statement of clear) database.run(statement);
    const bytes = Buffer.from(database.export()).toString("base64");
    database.close();
    return bytes;
  };
  const place = "Users/mo/AppData/Roaming/Members Chat/profile/messages.db";
  const files = {
    [place]: {
      modified: "2026-03-11T21:40:00Z",
      content: bytesOf(until(Date.UTC(2026, 2, 12), Date.UTC(2026, 2, 12) - 30 * DAY), [2, 0, 1, 4, 3, 5], []),
    },
    [`Old laptop/${place}`]: {
      modified: "2026-02-09T19:05:00Z",
      content: bytesOf(
        until(Date.UTC(2026, 1, 9)),
        [0, 1, 2, 3, 4, 5],
        [
          `delete from messages where talk_id = 3 and sent_ms > ${Date.UTC(2025, 10, 1)}`,
          `delete from messages where sent_ms between ${Date.UTC(2025, 5, 1)} and ${Date.UTC(2025, 5, 20)}`,
        ],
      ),
    },
    [`Backup of 2025-07-02/${place}`]: {
      modified: "2025-07-02T06:30:00Z",
      content: bytesOf(until(Date.UTC(2025, 6, 2)), [0, 1, 2, 3, 4, 5], []),
    },
  };
  const packed = gzipSync(JSON.stringify(files), { level: 9 });
  writeFileSync(join(import.meta.dirname, "images", "members-chat.json.gz"), packed);
  console.log(`members-chat.json.gz: ${(packed.length / 1024).toFixed(0)} KiB, ${all.length} messages in all`);
}

await main();
