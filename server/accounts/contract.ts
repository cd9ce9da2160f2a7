import { z } from "zod";

export const CAUSES = {
  "closed-unsaved": "closed it without saving",
  crashed: "had a crash or power cut",
  binned: "moved it to the bin",
  "bin-emptied": "emptied the bin",
  "deleted-past-bin": "deleted it past the bin",
  overwritten: "saved a wrong version over it",
  formatted: "formatted or reinstalled",
  upgraded: "upgraded the system",
  unknown: "do not know what happened",
} as const;

export const SYSTEMS = { windows: "Windows", mac: "Mac", card: "card or stick" } as const;

export const LOST_KINDS = {
  documents: "a document",
  sheets: "a sheet",
  drawings: "a drawing",
  pictures: "pictures",
  video: "video",
  audio: "sound recordings",
  mail: "mail",
  archives: "an archive",
  "application-data": "application data",
} as const;

const blank = (longest: number) =>
  z
    .string()
    .trim()
    .max(longest)
    .transform((text) => text || null)
    .nullable()
    .default(null);
const oneOf = <K extends string>(table: Record<K, string>) =>
  z
    .enum(Object.keys(table) as [K, ...K[]])
    .nullable()
    .default(null);

export const account = z.object({
  kind: oneOf(LOST_KINDS),
  nameHint: blank(200),
  folder: blank(500),
  system: oneOf(SYSTEMS),
  userName: blank(100),
  cause: oneOf(CAUSES),
  lostAt: z.coerce.date().nullable().default(null),
  contained: blank(500),
});
export type Account = z.infer<typeof account>;

export const EMPTY_ACCOUNT: Account = {
  kind: null,
  nameHint: null,
  folder: null,
  system: null,
  userName: null,
  cause: null,
  lostAt: null,
  contained: null,
};

/** The account as one plain paragraph; what is not known is left out. */
export function paragraph(of: Account, timeZone: string): string {
  const when = of.lostAt
    ? ` around ${of.lostAt.toLocaleDateString("en-GB", { day: "numeric", month: "long", year: "numeric", timeZone })}`
    : "";
  const parts = [
    `The client lost ${of.kind ? LOST_KINDS[of.kind] : "something"}`,
    of.nameHint ? ` called something like “${of.nameHint}”` : "",
    of.folder ? `, last seen in ${of.folder}` : "",
    of.system ? ` on a ${SYSTEMS[of.system]}${of.system === "card" ? "" : " computer"}` : "",
    of.userName ? ` used by ${of.userName}` : "",
    ".",
    of.cause ? ` They ${CAUSES[of.cause]}${when}.` : when ? ` It was lost${when}.` : "",
    of.contained ? ` It contained the words “${of.contained}”.` : "",
  ];
  return parts.join("");
}
