ALTER TABLE "restore_results" ADD COLUMN "place_home" integer;--> statement-breakpoint
ALTER TABLE "restore_results" ADD COLUMN "place_folder" text;--> statement-breakpoint
ALTER TABLE "restore_results" ADD COLUMN "place_name" text;--> statement-breakpoint
ALTER TABLE "tray_entries" ADD COLUMN "place_home" integer;--> statement-breakpoint
ALTER TABLE "tray_entries" ADD COLUMN "place_folder" text;--> statement-breakpoint
ALTER TABLE "tray_entries" ADD COLUMN "place_name" text;