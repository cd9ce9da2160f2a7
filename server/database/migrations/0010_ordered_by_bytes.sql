DROP INDEX "items_by_name";--> statement-breakpoint
DROP INDEX "items_by_name_lost";--> statement-breakpoint
ALTER TABLE "items" ALTER COLUMN "key" SET DATA TYPE text collate "C";--> statement-breakpoint
CREATE INDEX "items_by_name" ON "items" USING btree ("job_id",(lower("name") collate "C"),"id");--> statement-breakpoint
CREATE INDEX "items_by_name_lost" ON "items" USING btree ("job_id",(lower("name") collate "C"),"id") WHERE lost;