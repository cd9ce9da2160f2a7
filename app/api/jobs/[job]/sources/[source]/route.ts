import { database } from "@/server/database/connection";
import { answer, bodyAs, idFrom } from "@/server/respond";
import { relinkSource, removeSource, renameSource, rereadSource } from "@/server/sources/commands";
import { changeSource } from "@/server/sources/contract";

type Params = { job: string; source: string };

export const PATCH = answer(async (request, { job, source }: Params) => {
  const change = await bodyAs(request, changeSource);
  const { db } = database();
  if ("name" in change) return renameSource(db, idFrom(job), idFrom(source), change.name);
  if ("path" in change) return relinkSource(db, idFrom(job), idFrom(source), change.path);
  return rereadSource(db, idFrom(job), idFrom(source));
});
/** With `?results=yes` what was found in it goes too. */
export const DELETE = answer(async (request, { job, source }: Params) =>
  removeSource(database().db, idFrom(job), idFrom(source), new URL(request.url).searchParams.get("results") === "yes"),
);
