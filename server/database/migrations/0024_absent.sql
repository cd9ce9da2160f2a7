ALTER TABLE "copies" ADD COLUMN "absent" text;--> statement-breakpoint
UPDATE "copies" SET "absent" = 'encrypted' WHERE "encrypted";--> statement-breakpoint
ALTER TABLE "copies" DROP COLUMN "encrypted";
