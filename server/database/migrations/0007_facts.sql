ALTER TABLE "copies" ADD COLUMN "facts" jsonb;--> statement-breakpoint
ALTER TABLE "items" ADD COLUMN "facts" jsonb;