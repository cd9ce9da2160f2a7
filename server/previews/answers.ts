import { runTask } from "../content/pool";
import type { Database } from "../database/connection";
import { atMost } from "../limits";
import { numberFrom } from "../respond";
import { storedCopy } from "./content";
import { thumbnail } from "./pictures";
import { playedContent } from "./raw";

/** What is asked of a copy: its id, and the request with what it wants and whether it still waits. */
interface Asked {
  readonly db: Database;
  readonly copyId: number;
  readonly request: Request;
}

const wantedOf = (request: Request) => new URL(request.url).searchParams;

/** Bytes of a picture's longest side in pixels, in the inspector and large. */
const LONGEST = { small: 720, large: 2400 } as const;

async function picture({ copyId, request }: Asked): Promise<Response> {
  const longest = wantedOf(request).get("longest") === "large" ? LONGEST.large : LONGEST.small;
  const body = new Uint8Array(await runTask("picture", [copyId, longest], request.signal));
  return new Response(body, { headers: { "Content-Type": "image/webp", "Cache-Control": "private, max-age=3600" } });
}

async function small({ db, copyId, request }: Asked): Promise<Response> {
  const stored = await storedCopy(db, copyId);
  const body = new Uint8Array(await thumbnail(db, stored.id, (id) => runTask("thumbnail", [id], request.signal)));
  return new Response(body, { headers: { "Content-Type": "image/webp", "Cache-Control": "private, max-age=86400" } });
}

async function bytes({ copyId, request }: Asked): Promise<Response> {
  const wanted = wantedOf(request);
  const [at, length] = [numberFrom(wanted, "at"), numberFrom(wanted, "length", 512)];
  const body = new Uint8Array(await runTask("bytes", [copyId, at, length], request.signal));
  return new Response(body, { headers: { "Content-Type": "application/octet-stream", "Content-Disposition": "attachment" } });
}

/** The forms in which a copy's content is shown, each by the last part of its address. */
const FORMS: Readonly<Record<string, (asked: Asked) => Promise<unknown>>> = {
  form: ({ copyId, request }) => runTask("form", [copyId], request.signal),
  text: ({ copyId, request }) => runTask("text", [copyId, wantedOf(request).get("encoding")], request.signal),
  document: ({ copyId, request }) => runTask("document", [copyId], request.signal),
  tables: ({ copyId, request }) =>
    runTask("tables", [copyId, wantedOf(request).get("rows") === "compared" ? "compared" : "shown"], request.signal),
  settings: ({ copyId, request }) => runTask("settings", [copyId], request.signal),
  archive: ({ copyId, request }) => runTask("archive", [copyId], request.signal),
  outline: ({ copyId, request }) => runTask("outline", [copyId], request.signal),
  content: async ({ db, copyId, request }) =>
    atMost(24, "content", async () => playedContent(await storedCopy(db, copyId), request.headers.get("range"))),
  picture,
  thumbnail: small,
  bytes,
};

/** Answers with a copy's content in a form. @returns undefined: there is no such form */
export const previewAnswer = (form: string, asked: Asked): Promise<unknown> | undefined =>
  Object.hasOwn(FORMS, form) ? FORMS[form]?.(asked) : undefined;
