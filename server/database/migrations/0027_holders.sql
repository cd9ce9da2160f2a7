ALTER TABLE "copies" ADD COLUMN "file_size" bigint;--> statement-breakpoint
ALTER TABLE "copies" ADD COLUMN "file_modified" timestamp with time zone;