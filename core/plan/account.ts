/** How the loss came about. */
export const CAUSES = {
  "closed-unsaved": "closed it without saving",
  crashed: "had a crash or power cut",
  binned: "moved it to the bin",
  "bin-emptied": "emptied the bin",
  "deleted-past-bin": "deleted it past the bin",
  "too-large-for-bin": "deleted something too large for the bin",
  overwritten: "saved a wrong version over it",
  formatted: "formatted the drive or card",
  reinstalled: "reinstalled the system",
  upgraded: "upgraded the system",
  "application-removed": "removed or reinstalled the application",
  "history-cleared": "cleared a history",
  "messages-gone": "find all old messages gone",
  failing: "have a drive that is failing",
  "backup-closed": "have a backup that does not open",
  unknown: "do not know what happened",
} as const;
export type Cause = keyof typeof CAUSES;

export const SYSTEMS = { windows: "Windows", mac: "Mac", card: "card or stick" } as const;
export type System = keyof typeof SYSTEMS;

export const LOST_KINDS = {
  documents: "documents",
  sheets: "sheets",
  drawings: "drawings",
  pictures: "pictures",
  video: "video",
  audio: "sound recordings",
  mail: "mail",
  archives: "archives",
  "application-data": "databases or application data",
} as const;
export type LostKind = keyof typeof LOST_KINDS;

export const DRIVES = { disk: "a disk", "solid-state": "a solid-state drive" } as const;
export const USED_SINCE = { no: "not used since", little: "used a little since", much: "used a lot since" } as const;

/** A moment as the client gave it, with the stretch of time it means: UTC milliseconds, both null where it cannot be understood. */
export interface Moment {
  readonly text: string;
  readonly from: number | null;
  readonly to: number | null;
}

/** What the client says of one loss. Every blank may be empty. */
export interface Account {
  readonly kinds: readonly LostKind[];
  readonly nameHint: string | null;
  readonly extension: string | null;
  readonly contained: string | null;
  readonly count: number | null;
  readonly system: System | null;
  readonly drive: keyof typeof DRIVES | null;
  readonly folder: string | null;
  readonly userName: string | null;
  readonly lastSeen: Moment | null;
  readonly lastSaved: Moment | null;
  readonly lost: Moment | null;
  readonly cause: Cause | null;
  readonly tried: string | null;
  readonly usedSince: keyof typeof USED_SINCE | null;
}

export const EMPTY_ACCOUNT: Account = {
  kinds: [],
  nameHint: null,
  extension: null,
  contained: null,
  count: null,
  system: null,
  drive: null,
  folder: null,
  userName: null,
  lastSeen: null,
  lastSaved: null,
  lost: null,
  cause: null,
  tried: null,
  usedSince: null,
};

/** Whether no blank is filled. */
export const isEmpty = (account: Account) =>
  Object.values(account).every((value) => value === null || (Array.isArray(value) && value.length === 0));

const list = (words: readonly string[]) =>
  words.length < 2 ? (words[0] ?? "") : `${words.slice(0, -1).join(", ")} and ${words[words.length - 1]}`;

const sentence = (text: string) => (/[.!?]$/.test(text) ? text : `${text}.`);

/** The account as one plain paragraph; what is not known is left out. */
export function paragraph(of: Account, timeZone: string): string {
  const kinds = list(of.kinds.map((kind) => LOST_KINDS[kind]));
  const how = of.count === null ? "" : `${of.count} `;
  const when = of.lost ? momentWords(of.lost, timeZone) : "";
  const parts = [
    `The client lost ${how}${kinds || (of.count === null ? "something" : "files")}`,
    of.nameHint ? ` called something like “${of.nameHint}”` : "",
    of.extension ? ` with the extension .${of.extension.replace(/^\./, "")}` : "",
    of.folder ? `, last seen in ${of.folder}` : "",
    of.system ? ` on a ${SYSTEMS[of.system]}${of.system === "card" ? "" : " computer"}` : "",
    // A card or stick is its own drive.
    of.drive && of.system !== "card" ? `${of.system ? " with" : " on"} ${DRIVES[of.drive]}` : "",
    of.userName ? ` used by ${of.userName}` : "",
    ".",
    of.cause ? ` They ${CAUSES[of.cause]}${when}.` : when ? ` It was lost${when}.` : "",
    of.lastSaved ? ` It was last saved${momentWords(of.lastSaved, timeZone)}.` : "",
    of.lastSeen ? ` It was last seen${momentWords(of.lastSeen, timeZone)}.` : "",
    of.contained ? ` It contained the words “${of.contained}”.` : "",
    of.usedSince ? ` The drive was ${USED_SINCE[of.usedSince]}.` : "",
    of.tried ? ` Tried already: ${sentence(of.tried)}` : "",
  ];
  return parts.join("");
}

const DAY = 86_400_000;

/** A moment in words: the day or days it means, with what the client said where that is not the day itself. */
function momentWords({ text, from, to }: Moment, timeZone: string): string {
  const day = (time: number) => new Date(time).toLocaleDateString("en-GB", { day: "numeric", month: "long", year: "numeric", timeZone });
  if (from === null || to === null) return ` “${text}”`;
  const [first, last] = [day(from), day(to)];
  const said = /^\d{4}-\d\d-\d\d$/.test(text) || text === first ? "" : ` (“${text}”)`;
  if (first === last || to - from < DAY) return ` on ${first}${said}`;
  return ` between ${first} and ${last}${said}`;
}
