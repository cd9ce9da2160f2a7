ALTER TABLE "stores" ADD COLUMN "view" text;--> statement-breakpoint
ALTER TABLE "stores" ADD COLUMN "states" jsonb DEFAULT '[]'::jsonb NOT NULL;