ALTER TABLE "volumes" RENAME TO "stores";--> statement-breakpoint
ALTER TABLE "copies" RENAME COLUMN "volume_id" TO "store_id";--> statement-breakpoint
ALTER TABLE "folders" RENAME COLUMN "volume_id" TO "store_id";--> statement-breakpoint
ALTER TABLE "items" RENAME COLUMN "volume_id" TO "store_id";--> statement-breakpoint
ALTER TABLE "passes" RENAME COLUMN "volume_id" TO "store_id";--> statement-breakpoint
ALTER TABLE "passes" DROP CONSTRAINT "passes_volume_id_volumes_id_fk";
--> statement-breakpoint
ALTER TABLE "stores" DROP CONSTRAINT "volumes_source_id_sources_id_fk";
--> statement-breakpoint
-- Indexes follow their columns: those over millions of rows are not built again.
ALTER INDEX "folders_volume_path" RENAME TO "folders_store_path";--> statement-breakpoint
ALTER INDEX "volumes_source" RENAME TO "stores_source";--> statement-breakpoint
DROP INDEX "sources_job_path";--> statement-breakpoint
ALTER TABLE "sources" ADD COLUMN "within" jsonb DEFAULT '[]'::jsonb NOT NULL;--> statement-breakpoint
ALTER TABLE "sources" ADD COLUMN "parent_store_id" integer;--> statement-breakpoint
ALTER TABLE "stores" ADD COLUMN "kind" text DEFAULT 'volume' NOT NULL;--> statement-breakpoint
ALTER TABLE "stores" ADD COLUMN "as_of" timestamp with time zone;--> statement-breakpoint
ALTER TABLE "stores" ADD COLUMN "clock" text DEFAULT 'utc' NOT NULL;--> statement-breakpoint
ALTER TABLE "passes" ADD CONSTRAINT "passes_store_id_stores_id_fk" FOREIGN KEY ("store_id") REFERENCES "public"."stores"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "sources" ADD CONSTRAINT "sources_parent_store_id_stores_id_fk" FOREIGN KEY ("parent_store_id") REFERENCES "public"."stores"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "stores" ADD CONSTRAINT "stores_source_id_sources_id_fk" FOREIGN KEY ("source_id") REFERENCES "public"."sources"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE UNIQUE INDEX "sources_job_path" ON "sources" USING btree ("job_id","path",md5("within"::text));--> statement-breakpoint
UPDATE "stores" SET "kind" = 'folder' WHERE "filesystem" = 'folder';--> statement-breakpoint
UPDATE "stores" SET "clock" = 'local' WHERE "filesystem" LIKE 'fat%';
