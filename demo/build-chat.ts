/**
 * Builds `demo/images/members-chat.json.gz`: the profile of the members' chat as it stood on three disks of the secretary's: installed anew a month ago,
 * the old laptop's with what was cleared there, and a backup from before. Run it with `npx tsx demo/build-chat.ts`; the databases are SQLite's own
 * (the package sql.js).
 */
import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import initSql, { type Database } from "sql.js";
import { photograph, seeded } from "./draw";

const SCHEMA = `
create table members(id integer primary key, handle text not null unique, shown text not null);
create table talks(id integer primary key, guid text not null unique, title text not null);
create table messages(id integer primary key autoincrement, guid text not null, talk_id integer not null, member_id integer not null, body text, sent_ms integer not null, edited_ms integer);
create unique index messages_guid on messages(guid);
create index messages_talk on messages(talk_id, sent_ms);
create table transfers(id integer primary key, message_id integer not null, file_name text not null, file_type text, file_size integer, local_path text, done_ms integer);`;

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

/** A file that came with a message, and where it stands today: under its name, another one, cut short, or nowhere. */
interface Sent {
  /** Which message of all it came with. */
  readonly with: number;
  readonly name: string;
  readonly type: string;
  readonly content: Buffer;
  readonly today: string | null;
  readonly left?: number;
}

const RECEIVED = "C:\\Users\\mo\\Downloads\\Members Chat";

async function sent(): Promise<Sent[]> {
  const picture = async (seed: number) => photograph("trails", seed, 480, 320);
  const text = (lines: readonly string[]) => Buffer.from(`${lines.join("\r\n")}\r\n`);
  const rota = text([
    "night,opens,closes",
    ...Array.from({ length: 40 }, (_, i) => `2026-03-${1 + (i % 28)},${MEMBERS[i % 6]},${MEMBERS[(i + 2) % 6]}`),
  ]);
  const keys = text(["Dome: 3 keys", "Workshop: 2 keys", ...Array.from({ length: 30 }, (_, i) => `Cabinet ${i + 1}: ${MEMBERS[i % 6]}`)]);
  const downloads = "Old laptop/Users/mo/Downloads/Members Chat";
  return [
    {
      with: 1500,
      name: "anniversary trails 302.jpg",
      type: "image/jpeg",
      content: await picture(302),
      today: `${downloads}/anniversary trails 302.jpg`,
    },
    {
      with: 1904,
      name: "anniversary trails 311.jpg",
      type: "image/jpeg",
      content: await picture(311),
      today: "Old laptop/Users/mo/Pictures/front page.jpg",
    },
    { with: 2210, name: "rota spring.csv", type: "text/csv", content: rota, today: `${downloads}/rota spring.csv` },
    { with: 2440, name: "key list.txt", type: "text/plain", content: keys, today: `${downloads}/key list.txt.part`, left: 400 },
    { with: 2710, name: "quotation for the mirror.pdf", type: "application/pdf", content: Buffer.alloc(48_211), today: null },
  ];
}

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
function profile(database: Database, messages: readonly Message[], order: readonly number[], files: ReadonlyMap<string, Sent>): void {
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
  for (const [guid, { name, type, content }] of files)
    database.run(
      "insert into transfers(message_id, file_name, file_type, file_size, local_path, done_ms) select id, ?, ?, ?, ?, sent_ms + 4000 from messages where guid = ?",
      [name, type, content.length, `${RECEIVED}\\${name}`, guid],
    );
  database.run("commit");
}

async function main(): Promise<void> {
  const sql = await initSql();
  const all = said();
  const attached = await sent();
  const byGuid = new Map(attached.map((each) => [all[each.with]?.guid ?? "", each]));
  const until = (date: number, from = 0) => all.filter(({ sent }) => sent >= from && sent < date);
  const bytesOf = (messages: readonly Message[], order: readonly number[], clear: readonly string[]) => {
    const database = new sql.Database();
    profile(database, messages, order, byGuid);
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
  for (const { content, today, left } of attached)
    if (today !== null)
      Object.assign(files, { [today]: { modified: "2026-01-20T10:00:00Z", content: content.subarray(0, left).toString("base64") } });
  const packed = gzipSync(JSON.stringify(files), { level: 9 });
  writeFileSync(join(import.meta.dirname, "images", "members-chat.json.gz"), packed);
  console.log(`members-chat.json.gz: ${(packed.length / 1024).toFixed(0)} KiB, ${all.length} messages in all`);
}

await main();
