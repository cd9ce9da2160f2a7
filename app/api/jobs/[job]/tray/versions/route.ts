import { database } from "@/server/database/connection";
import { answer, bodyAs, idFrom } from "@/server/respond";
import { versionChoice } from "@/server/tray/contract";
import { chooseVersions } from "@/server/tray/versions";

export const POST = answer(async (request, { job }: { job: string }) =>
  chooseVersions(database().db, idFrom(job), await bodyAs(request, versionChoice)),
);
