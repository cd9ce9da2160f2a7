import { database } from "@/server/database/connection";
import { answer, idFrom } from "@/server/respond";
import { removeSource } from "@/server/sources/commands";

export const DELETE = answer(async (_request, { job, source }: { job: string; source: string }) =>
  removeSource(database().db, idFrom(job), idFrom(source)),
);
