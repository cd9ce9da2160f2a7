CREATE TABLE "copy_checks" (
	"job_id" integer NOT NULL,
	"copy_id" bigint NOT NULL,
	CONSTRAINT "copy_checks_job_id_copy_id_pk" PRIMARY KEY("job_id","copy_id")
);
--> statement-breakpoint
ALTER TABLE "tray_entries" DROP CONSTRAINT "tray_entries_job_id_item_id_pk";--> statement-breakpoint
ALTER TABLE "copies" ADD COLUMN "local_times" boolean DEFAULT false NOT NULL;--> statement-breakpoint
ALTER TABLE "copies" ADD COLUMN "sha256" "bytea";--> statement-breakpoint
ALTER TABLE "items" ADD COLUMN "live" boolean DEFAULT false NOT NULL;--> statement-breakpoint
ALTER TABLE "items" ADD COLUMN "opens" text;--> statement-breakpoint
ALTER TABLE "items" ADD COLUMN "created" timestamp with time zone;--> statement-breakpoint
ALTER TABLE "items" ADD COLUMN "deleted_at" timestamp with time zone;--> statement-breakpoint
ALTER TABLE "items" ADD COLUMN "extension" text DEFAULT '' NOT NULL;--> statement-breakpoint
ALTER TABLE "jobs" ADD COLUMN "technician" text DEFAULT '' NOT NULL;--> statement-breakpoint
ALTER TABLE "jobs" ADD COLUMN "firm" text DEFAULT '' NOT NULL;--> statement-breakpoint
ALTER TABLE "jobs" ADD COLUMN "number" text DEFAULT '' NOT NULL;--> statement-breakpoint
ALTER TABLE "passes" ADD COLUMN "kinds" jsonb DEFAULT '[]'::jsonb NOT NULL;--> statement-breakpoint
ALTER TABLE "restore_results" ADD COLUMN "dated" boolean DEFAULT false NOT NULL;--> statement-breakpoint
ALTER TABLE "restore_results" ADD COLUMN "gaps" jsonb;--> statement-breakpoint
ALTER TABLE "restore_results" ADD COLUMN "left_at" double precision;--> statement-breakpoint
ALTER TABLE "restore_results" ADD COLUMN "since" text;--> statement-breakpoint
ALTER TABLE "restore_results" ADD COLUMN "aside" text;--> statement-breakpoint
ALTER TABLE "restores" ADD COLUMN "as_found" boolean DEFAULT false NOT NULL;--> statement-breakpoint
ALTER TABLE "restores" ADD COLUMN "asked" text;--> statement-breakpoint
ALTER TABLE "restores" ADD COLUMN "proven_at" timestamp with time zone;--> statement-breakpoint
ALTER TABLE "sources" ADD COLUMN "unreadable" jsonb DEFAULT '[]'::jsonb NOT NULL;--> statement-breakpoint
ALTER TABLE "tray_entries" ADD COLUMN "copy_id" bigint;--> statement-breakpoint
ALTER TABLE "copy_checks" ADD CONSTRAINT "copy_checks_job_id_jobs_id_fk" FOREIGN KEY ("job_id") REFERENCES "public"."jobs"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX "items_lost_condition" ON "items" USING btree ("job_id","condition") WHERE lost;--> statement-breakpoint
CREATE INDEX "results_open" ON "restore_results" USING btree ("restore_id","id") WHERE state in ('waiting', 'writing');--> statement-breakpoint
CREATE INDEX "results_output" ON "restore_results" USING hash ("output") WHERE output is not null;--> statement-breakpoint
CREATE UNIQUE INDEX "tray_entries_copy" ON "tray_entries" USING btree ("job_id","item_id",coalesce("copy_id", 0));--> statement-breakpoint
ALTER TABLE "restores" ADD CONSTRAINT "restores_asked_unique" UNIQUE("asked");--> statement-breakpoint
UPDATE "copies" c SET "local_times" = true FROM "volumes" v WHERE v."id" = c."volume_id" AND (v."filesystem" IN ('fat12', 'fat16', 'fat32') OR (c."place" = 'raw' AND c."facts" ? 'taken'));--> statement-breakpoint
UPDATE "items" i SET "live" = c."state" = 'live', "created" = c."created", "deleted_at" = c."deleted_at",
  "extension" = coalesce(lower(substring(i."name" from '[^.]\.([^.[:space:]]{1,12})$')), ''),
  "opens" = CASE WHEN c."evidence"->'content'->>'finding' IS NULL THEN NULL WHEN c."evidence"->'content'->>'finding' = 'agrees' AND (c."evidence"->'content'->>'checked')::boolean THEN 'yes'
    WHEN c."evidence"->'content'->>'finding' = 'damaged' THEN 'no' ELSE 'unknown' END
FROM "copies" c WHERE c."id" = i."best_copy_id";--> statement-breakpoint
UPDATE "passes" p SET "kinds" = k."kinds" FROM (
  SELECT g."pass_id", jsonb_agg(jsonb_build_object('place', g."place", 'kind', g."kind", 'count', g."n") ORDER BY g."n" DESC) AS "kinds"
  FROM (SELECT c."pass_id", c."place", i."kind", count(*) AS "n" FROM "copies" c JOIN "items" i ON i."id" = c."item_id"
    WHERE c."state" = 'deleted' OR c."rule" IS NOT NULL GROUP BY 1, 2, 3) g GROUP BY 1) k WHERE k."pass_id" = p."id";--> statement-breakpoint
UPDATE "sources" s SET "unreadable" = u."bad" FROM (
  SELECT p."source_id", jsonb_agg(r) AS "bad" FROM "passes" p CROSS JOIN jsonb_array_elements(p."unreadable") r GROUP BY 1) u WHERE u."source_id" = s."id";
