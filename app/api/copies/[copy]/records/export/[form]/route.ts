import { runTask } from "@/server/content/pool";
import { entriesQuery, entryExport } from "@/server/records/contract";
import { answer, attachment, idFrom } from "@/server/respond";

const TYPES = { html: "text/html; charset=utf-8", json: "application/json; charset=utf-8" } as const;

export const GET = answer(async (request, { copy, form: wanted }: { copy: string; form: string }) => {
  const form = entryExport.parse(wanted);
  const query = entriesQuery.parse(Object.fromEntries(new URL(request.url).searchParams));
  const { name, text } = await runTask("exportEntries", [idFrom(copy), query, form], request.signal);
  return new Response(text, { headers: { "Content-Type": TYPES[form], "Content-Disposition": attachment(`${name}.${form}`) } });
});
