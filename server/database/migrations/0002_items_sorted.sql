DROP INDEX "items_order";--> statement-breakpoint
ALTER TABLE "items" ADD COLUMN "places" text[] NOT NULL DEFAULT '{file-record}';--> statement-breakpoint
ALTER TABLE "items" ALTER COLUMN "places" DROP DEFAULT;--> statement-breakpoint
CREATE INDEX "copies_first_at" ON "copies" USING btree ("volume_id","first_at");--> statement-breakpoint
CREATE INDEX "items_by_name" ON "items" USING btree ("job_id",lower("name"),"id");--> statement-breakpoint
CREATE INDEX "items_by_name_lost" ON "items" USING btree ("job_id",lower("name"),"id") WHERE lost;--> statement-breakpoint
CREATE INDEX "items_by_changed" ON "items" USING btree ("job_id",coalesce("modified", '-infinity'::timestamptz),"id");--> statement-breakpoint
CREATE INDEX "items_by_size" ON "items" USING btree ("job_id","size","id");--> statement-breakpoint
CREATE INDEX "items_by_survival" ON "items" USING btree ("job_id","survival","id");