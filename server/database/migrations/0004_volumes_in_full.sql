ALTER TABLE "copies" ADD COLUMN "deleted_at" timestamp with time zone;--> statement-breakpoint
ALTER TABLE "copies" ADD COLUMN "streams" jsonb;--> statement-breakpoint
ALTER TABLE "copies" ADD COLUMN "links" integer DEFAULT 1 NOT NULL;--> statement-breakpoint
ALTER TABLE "copies" ADD COLUMN "encrypted" boolean DEFAULT false NOT NULL;--> statement-breakpoint
ALTER TABLE "passes" ADD COLUMN "options" jsonb DEFAULT '{}'::jsonb NOT NULL;--> statement-breakpoint
ALTER TABLE "passes" ADD COLUMN "unreadable" jsonb DEFAULT '[]'::jsonb NOT NULL;--> statement-breakpoint
ALTER TABLE "restore_results" ADD COLUMN "stream" integer;--> statement-breakpoint
ALTER TABLE "volumes" ADD COLUMN "standing" text DEFAULT 'present' NOT NULL;--> statement-breakpoint
ALTER TABLE "volumes" ADD COLUMN "closed" text;--> statement-breakpoint
ALTER TABLE "volumes" ADD COLUMN "reading_at" timestamp with time zone;--> statement-breakpoint
ALTER TABLE "volumes" ADD COLUMN "findings" jsonb DEFAULT '[]'::jsonb NOT NULL;--> statement-breakpoint
ALTER TABLE "volumes" ADD COLUMN "profiles" jsonb DEFAULT '[]'::jsonb NOT NULL;