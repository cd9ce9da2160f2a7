-- Archives are gone through member by member now, and a place in them says more than a number: passes that were begun with one start again.
UPDATE "passes" SET "state" = 'stopped', "resume" = NULL, "worker_id" = NULL, "finished_at" = now(),
  "problem" = 'It was begun with an earlier version, which read in another order. What it found is kept; start it again to read all of it.'
FROM "stores" s WHERE s."id" = "passes"."store_id" AND "passes"."resume" IS NOT NULL AND "passes"."state" IN ('queued', 'running', 'paused')
  AND (s."filesystem" = 'tar' AND "passes"."place" IN ('known-places', 'file-record', 'thorough') OR s."filesystem" = 'zip' AND "passes"."place" = 'thorough');--> statement-breakpoint
-- A light reading of an archive without its list of contents gave files as empty, and whole, whose size stands behind their data.
UPDATE "copies" c SET "condition" = 'not-checked',
  "notes" = c."notes" || '["How long it is was not looked for when this was found: it need not be empty. Read the archive again."]'::jsonb
FROM "stores" s WHERE s."id" = c."store_id" AND s."filesystem" = 'zip' AND s."notes"::text LIKE '%list of contents of this archive is gone%'
  AND c."type" = 'file' AND c."size" = 0 AND c."condition" = 'whole';--> statement-breakpoint
UPDATE "items" i SET "condition" = c."condition" FROM "copies" c WHERE c."id" = i."best_copy_id" AND i."condition" IS DISTINCT FROM c."condition";
