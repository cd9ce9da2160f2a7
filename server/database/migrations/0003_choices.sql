ALTER TABLE "items" ADD COLUMN "overruled" boolean DEFAULT false NOT NULL;--> statement-breakpoint
ALTER TABLE "restore_results" ADD COLUMN "conflict" text;