-- What was called whole and need not be: deleted files that FAT and exFAT give as empty, and files deleted from a folder of NTFS whose record was used
-- again, where their content does not prove itself. What rests on the records alone says so. Nothing is live on a volume that lies under a later one,
-- and what that one uses of it was not weighed: a new pass does.
UPDATE "copies" c SET "condition" = 'name-only', "survival" = 0, "absent" = 'record-damaged', "layout" = NULL,
  "notes" = c."notes" || '["Its record says that it is empty; it may have been emptied as it was deleted, or deleted before its size was written. Where its content stood is not known."]'::jsonb
FROM "stores" s WHERE s."id" = c."store_id" AND s."filesystem" IN ('fat12', 'fat16', 'fat32', 'exfat') AND c."state" = 'deleted' AND c."type" = 'file'
  AND c."size" = 0 AND c."condition" = 'whole' AND c."place" NOT IN ('raw', 'backup', 'snapshot');--> statement-breakpoint
UPDATE "copies" c SET "condition" = 'not-checked'
FROM "stores" s, "folders" f WHERE s."id" = c."store_id" AND f."id" = c."folder_id" AND s."filesystem" = 'ntfs' AND c."state" = 'deleted'
  AND c."condition" = 'whole' AND c."place" = 'file-record' AND (f."path" = '/?' OR f."path" LIKE '/?/%') AND c."evidence"->'content'->>'finding' IS NOT NULL
  AND NOT (c."evidence"->'content'->>'finding' = 'agrees' AND (c."evidence"->'content'->>'checked')::boolean);--> statement-breakpoint
UPDATE "copies" c SET
  "notes" = c."notes" || '["That it is whole rests on the records alone: its place on the disk is free, and no known record has it. Nothing in its content proves it."]'::jsonb
WHERE c."state" = 'deleted' AND c."condition" = 'whole' AND c."place" NOT IN ('raw', 'backup', 'snapshot') AND c."evidence"->'content'->>'finding' IS NOT NULL
  AND NOT (c."evidence"->'content'->>'finding' = 'agrees' AND (c."evidence"->'content'->>'checked')::boolean);--> statement-breakpoint
UPDATE "copies" c SET "state" = 'deleted', "condition" = CASE WHEN c."condition" = 'whole' AND c."type" = 'file' AND c."size" > 0 THEN 'not-checked' ELSE c."condition" END,
  "notes" = c."notes" || '["A later volume lies over this one: what it has written over was not known when this was found. Start the pass again to have it weighed."]'::jsonb
FROM "stores" s WHERE s."id" = c."store_id" AND s."standing" = 'earlier' AND c."state" = 'live';--> statement-breakpoint
UPDATE "items" i SET "condition" = c."condition", "survival" = c."survival", "live" = c."state" = 'live', "lost" = i."lost" OR c."state" = 'deleted' FROM "copies" c
WHERE c."id" = i."best_copy_id" AND (i."condition", i."survival", i."live") IS DISTINCT FROM (c."condition", c."survival", c."state" = 'live');
