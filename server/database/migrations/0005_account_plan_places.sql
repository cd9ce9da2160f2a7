CREATE TABLE "place_rules" (
	"id" text PRIMARY KEY NOT NULL,
	"off" boolean DEFAULT false NOT NULL,
	"rule" jsonb
);
--> statement-breakpoint
CREATE TABLE "plan_marks" (
	"job_id" integer NOT NULL,
	"step_key" text NOT NULL,
	"position" double precision,
	"skipped" text,
	"done_by_hand" text,
	"added" boolean DEFAULT false NOT NULL,
	CONSTRAINT "plan_marks_job_id_step_key_pk" PRIMARY KEY("job_id","step_key")
);
--> statement-breakpoint
ALTER TABLE "accounts" DROP CONSTRAINT "accounts_pkey";--> statement-breakpoint
ALTER TABLE "accounts" ADD COLUMN "id" serial PRIMARY KEY NOT NULL;--> statement-breakpoint
ALTER TABLE "accounts" ADD COLUMN "position" integer DEFAULT 0 NOT NULL;--> statement-breakpoint
ALTER TABLE "accounts" ADD COLUMN "told" jsonb;--> statement-breakpoint
ALTER TABLE "copies" ADD COLUMN "file" text;--> statement-breakpoint
ALTER TABLE "copies" ADD COLUMN "rule" text;--> statement-breakpoint
ALTER TABLE "copies" ADD COLUMN "found_path" text;--> statement-breakpoint
ALTER TABLE "jobs" ADD COLUMN "found_item_id" bigint;--> statement-breakpoint
ALTER TABLE "sources" ADD COLUMN "beside" jsonb DEFAULT '[]'::jsonb NOT NULL;--> statement-breakpoint
ALTER TABLE "plan_marks" ADD CONSTRAINT "plan_marks_job_id_jobs_id_fk" FOREIGN KEY ("job_id") REFERENCES "public"."jobs"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX "accounts_job" ON "accounts" USING btree ("job_id","position");--> statement-breakpoint
UPDATE "accounts" SET "told" = jsonb_build_object(
	'kinds', case when "kind" is null then '[]'::jsonb else jsonb_build_array("kind") end,
	'nameHint', "name_hint", 'extension', null, 'contained', "contained", 'count', null, 'system', "system", 'drive', null,
	'folder', "folder", 'userName', "user_name", 'lastSeen', null, 'lastSaved', null,
	'lost', case when "lost_at" is null then null else jsonb_build_object('text', to_char("lost_at" at time zone 'UTC', 'YYYY-MM-DD'),
		'from', extract(epoch from date_trunc('day', "lost_at" at time zone 'UTC')) * 1000,
		'to', extract(epoch from date_trunc('day', "lost_at" at time zone 'UTC')) * 1000 + 86399999) end,
	'cause', "cause", 'tried', null, 'usedSince', null);--> statement-breakpoint
ALTER TABLE "accounts" ALTER COLUMN "told" SET NOT NULL;--> statement-breakpoint
ALTER TABLE "accounts" DROP COLUMN "kind";--> statement-breakpoint
ALTER TABLE "accounts" DROP COLUMN "name_hint";--> statement-breakpoint
ALTER TABLE "accounts" DROP COLUMN "folder";--> statement-breakpoint
ALTER TABLE "accounts" DROP COLUMN "system";--> statement-breakpoint
ALTER TABLE "accounts" DROP COLUMN "user_name";--> statement-breakpoint
ALTER TABLE "accounts" DROP COLUMN "cause";--> statement-breakpoint
ALTER TABLE "accounts" DROP COLUMN "lost_at";--> statement-breakpoint
ALTER TABLE "accounts" DROP COLUMN "contained";