import { answer } from "@/server/respond";
import { browse } from "@/server/sources/source-folders";

export const GET = answer(async (request) => browse(new URL(request.url).searchParams.get("path")));
