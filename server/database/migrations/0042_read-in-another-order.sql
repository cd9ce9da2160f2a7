-- Readers of these file systems give their records in another order now: a number of the former one leads to another place. What was found is kept;
-- a pass that is started again knows it, and begins at the beginning.
UPDATE "passes" SET "state" = 'stopped', "resume" = NULL, "worker_id" = NULL, "finished_at" = now(),
  "problem" = 'It was begun with an earlier version, which read in another order. What it found is kept; start it again to read all of it.'
FROM "stores" s WHERE s."id" = "passes"."store_id" AND "passes"."resume" IS NOT NULL AND "passes"."state" IN ('queued', 'running', 'paused')
  AND "passes"."place" IN ('file-record', 'leftover-record') AND s."filesystem" IN ('fat12', 'fat16', 'fat32', 'exfat', 'hfsplus', 'hfsx');--> statement-breakpoint
DELETE FROM "pass_notes" n USING "passes" p WHERE p."id" = n."pass_id" AND p."state" = 'stopped';
