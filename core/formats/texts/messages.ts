import type { BlockReader } from "../../bytes/block-reader";
import type { ByteSource } from "../../bytes/byte-source";
import { breaksAt, type Extent, endsAt, type Format, type Kind, latin1, type Summary } from "../format";
import { defined } from "../tiff-directory";
import { followingText, withLineEnd } from "./marked-up";
import { textOf, textRun } from "./text-run";

/** Fields that begin a message: RFC 5322, 3.6 and 2.2; those of the way it took come first. */
const FIRST_FIELDS =
  /^(Return-Path|Received|Delivered-To|From|To|Date|Subject|Message-ID|MIME-Version|Reply-To|Content-Type|X-[\w-]+|DKIM-Signature|Authentication-Results): ?\S/i;
const FIELD = /^[!-9;-~]+:/;

/** Whether these are a message's head: several fields, two of which say who and when. */
function isMessage(text: string): boolean {
  if (!FIRST_FIELDS.test(text)) return false;
  const lines = text.split(/\r?\n/);
  let fields = 0;
  const known = new Set<string>();
  for (const line of lines) {
    if (/^[ \t]/.test(line)) continue;
    if (!FIELD.test(line)) break;
    fields += 1;
    const name = /^(from|to|date|subject|message-id|received|mime-version):/i.exec(line)?.[1];
    if (name) known.add(name.toLowerCase());
  }
  return fields >= 3 && known.size >= 2;
}

function followMessage(source: ByteSource): Extent | null {
  return followingText(source, (reader, end) => {
    const head = reader.ascii(0, Math.min(end, 16_384));
    if (!isMessage(head)) return null;
    // A message of several parts is closed by its boundary (RFC 2046, 5.1.1).
    const boundary = /boundary="?([^"\r\n;]{1,70})"?/i.exec(head)?.[1];
    if (boundary) {
      const close = reader.find(`--${boundary}--`, 0, end);
      return close < 0 ? breaksAt(end, "the message breaks off before its end") : endsAt(withLineEnd(reader, close + boundary.length + 4));
    }
    return openEnded(end);
  });
}

const openEnded = (end: number): Extent => ({
  size: end,
  closed: false,
  verdict: { verdict: "cannot-tell", reason: "text does not tell where it ends" },
});

/** RFC 4155: each message behind a line "From sender date". */
const MBOX = /^From \S+ .{0,40}\d{4}/;

const decodeWord = (text: string) =>
  text.replace(/=\?([\w-]+)\?([bq])\?([^?]*)\?=/gi, (whole, charset: string, kind: string, data: string) => {
    try {
      const raw =
        kind.toLowerCase() === "b"
          ? atob(data)
          : data.replace(/_/g, " ").replace(/=([0-9a-f]{2})/gi, (_, hex: string) => String.fromCharCode(Number.parseInt(hex, 16)));
      return new TextDecoder(charset).decode(Uint8Array.from(raw, (mark) => mark.charCodeAt(0)));
    } catch {
      return whole;
    }
  });

function messageFacts(source: ByteSource): Summary {
  const run = textRun(source, 65_536);
  if (!run) return {};
  const head = textOf(source, run, 65_536).split(/\r?\n\r?\n/)[0] ?? "";
  const unfolded = head.replace(/\r?\n[ \t]+/g, " ");
  const field = (name: string) => {
    const found = new RegExp(`^${name}: *(.{1,400})$`, "im").exec(unfolded)?.[1]?.trim();
    return found ? decodeWord(found) : undefined;
  };
  const dated = Date.parse(field("Date") ?? "");
  return defined<Summary>({ title: field("Subject"), author: field("From"), dated: Number.isNaN(dated) ? undefined : dated });
}

/** Calendars and contacts: RFC 5545, 3.4 and RFC 6350, 3.3: objects that begin and end by name, one after the other. */
const named = (id: string, kind: Kind, title: string, name: string, facts: RegExp): Format => ({
  id,
  kind,
  title,
  extensions: [id],
  signatures: [{ at: 0, mark: `BEGIN:${name}` }],
  loose: true,
  recognise: (head) => latin1(head, 64).startsWith(`BEGIN:${name}`),
  follow: (source) =>
    followingText(source, (reader, end) => {
      let at = 0;
      for (let objects = 0; ; objects += 1) {
        if (!reader.has(at, `BEGIN:${name}`)) return objects > 0 ? endsAt(at) : null;
        const close = closing(reader, at, end, name);
        if (close < 0) return breaksAt(end, "the text breaks off before its end");
        at = withLineEnd(reader, close);
      }
    }),
  summarise(source): Summary {
    const run = textRun(source, 65_536);
    const found = run && facts.exec(textOf(source, run, 65_536))?.[1]?.trim();
    return found ? { title: found } : {};
  },
});

function closing(reader: BlockReader, at: number, end: number, name: string): number {
  const found = reader.find(`END:${name}`, at, end);
  return found < 0 ? -1 : found + 4 + name.length;
}

export const messageFormats: readonly Format[] = [
  {
    id: "mbox",
    kind: "mail",
    title: "mail box",
    extensions: ["mbox"],
    signatures: [{ at: 0, mark: "From " }],
    loose: true,
    recognise: (head) => MBOX.test(latin1(head, 128)) && /\r?\n[!-9;-~]+:/.test(latin1(head, 1024)),
    follow: (source) => followingText(source, (_, end) => openEnded(end)),
    summarise: messageFacts,
  },
  {
    id: "eml",
    kind: "mail",
    title: "mail message",
    extensions: ["eml"],
    signatures: [
      "Return-Path:",
      "Received:",
      "Delivered-To:",
      "From: ",
      "To: ",
      "Date: ",
      "Subject: ",
      "Message-ID:",
      "MIME-Version:",
      "X-",
    ].map((mark) => ({
      at: 0,
      mark,
    })),
    loose: true,
    recognise: (head) => isMessage(latin1(head)),
    follow: followMessage,
    summarise: messageFacts,
  },
  named("ics", "application-data", "calendar", "VCALENDAR", /^SUMMARY[^:]*:(.{1,200})$/m),
  named("vcf", "application-data", "contacts", "VCARD", /^FN[^:]*:(.{1,200})$/m),
];
