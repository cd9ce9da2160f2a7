ALTER TABLE "copies" ADD COLUMN "marks" smallint;--> statement-breakpoint
ALTER TABLE "restore_results" ADD COLUMN "left_behind" jsonb;--> statement-breakpoint
ALTER TABLE "restores" ADD COLUMN "streams" text DEFAULT 'leave' NOT NULL;--> statement-breakpoint
CREATE INDEX "results_first" ON "restore_results" USING btree ("restore_id","copy_id") WHERE stream is null;