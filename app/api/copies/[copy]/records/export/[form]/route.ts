import { runTask } from "@/server/content/pool";
import { entriesQuery, entryExport } from "@/server/records/contract";
import { answerInParts } from "@/server/records/in-parts";
import { answer, idFrom } from "@/server/respond";

const TYPES = { html: "text/html; charset=utf-8", json: "application/json; charset=utf-8" } as const;

export const GET = answer(async (request, { copy, form: wanted }: { copy: string; form: string }) => {
  const form = entryExport.parse(wanted);
  const query = entriesQuery.parse(Object.fromEntries(new URL(request.url).searchParams));
  const partFrom = (from: number) => runTask("exportEntries", [idFrom(copy), { ...query, from }, form], request.signal);
  return answerInParts(partFrom, TYPES[form], form);
});
