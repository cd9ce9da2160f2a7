ALTER TABLE "jobs" ADD COLUMN "log_hash" text;--> statement-breakpoint
ALTER TABLE "log_entries" ADD COLUMN "hash" text;--> statement-breakpoint
ALTER TABLE "restore_results" ADD COLUMN "bag" integer;--> statement-breakpoint
ALTER TABLE "restores" ADD COLUMN "form" text DEFAULT 'files' NOT NULL;--> statement-breakpoint
ALTER TABLE "restores" ADD COLUMN "bag_limit" bigint;--> statement-breakpoint
ALTER TABLE "restores" ADD COLUMN "wanted" text DEFAULT 'run' NOT NULL;--> statement-breakpoint
ALTER TABLE "restores" ADD COLUMN "waits" boolean DEFAULT false NOT NULL;