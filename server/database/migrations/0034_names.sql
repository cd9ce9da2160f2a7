ALTER TABLE "restore_results" ADD COLUMN "number" integer DEFAULT 0 NOT NULL;--> statement-breakpoint
ALTER TABLE "restores" ADD COLUMN "names" text DEFAULT '' NOT NULL;