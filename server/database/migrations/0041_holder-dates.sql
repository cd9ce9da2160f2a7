ALTER TABLE "copies" ADD COLUMN "file_created" timestamp with time zone;--> statement-breakpoint
UPDATE "items" SET "created" = NULL FROM "copies" c WHERE "items"."best_copy_id" = c."id" AND c."file_size" IS NOT NULL AND c."set_key" IS NOT NULL;--> statement-breakpoint
UPDATE "copies" SET "file_created" = "created", "created" = NULL WHERE "file_size" IS NOT NULL AND "set_key" IS NOT NULL;
