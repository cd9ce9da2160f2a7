CREATE TABLE "accounts" (
	"job_id" integer PRIMARY KEY NOT NULL,
	"kind" text,
	"name_hint" text,
	"folder" text,
	"system" text,
	"user_name" text,
	"cause" text,
	"lost_at" timestamp with time zone,
	"contained" text,
	"updated_at" timestamp with time zone DEFAULT now() NOT NULL
);
--> statement-breakpoint
CREATE TABLE "copies" (
	"id" bigserial PRIMARY KEY NOT NULL,
	"job_id" integer NOT NULL,
	"pass_id" integer NOT NULL,
	"volume_id" integer NOT NULL,
	"item_id" bigint,
	"folder_id" integer NOT NULL,
	"place" text NOT NULL,
	"state" text NOT NULL,
	"type" text NOT NULL,
	"reference" text NOT NULL,
	"name" text NOT NULL,
	"name_raw" "bytea" NOT NULL,
	"size" bigint NOT NULL,
	"created" timestamp with time zone,
	"modified" timestamp with time zone,
	"changed" timestamp with time zone,
	"condition" text NOT NULL,
	"survival" double precision NOT NULL,
	"evidence" jsonb NOT NULL,
	"layout" "bytea",
	"first_at" bigint,
	"notes" jsonb NOT NULL
);
--> statement-breakpoint
CREATE TABLE "folders" (
	"id" serial PRIMARY KEY NOT NULL,
	"job_id" integer NOT NULL,
	"volume_id" integer NOT NULL,
	"path" text NOT NULL
);
--> statement-breakpoint
CREATE TABLE "items" (
	"id" bigserial PRIMARY KEY NOT NULL,
	"job_id" integer NOT NULL,
	"volume_id" integer NOT NULL,
	"folder_id" integer NOT NULL,
	"key" text NOT NULL,
	"name" text NOT NULL,
	"kind" text NOT NULL,
	"lost" boolean NOT NULL,
	"copies" integer DEFAULT 1 NOT NULL,
	"best_copy_id" bigint NOT NULL,
	"size" bigint NOT NULL,
	"modified" timestamp with time zone,
	"condition" text NOT NULL,
	"survival" double precision NOT NULL
);
--> statement-breakpoint
CREATE TABLE "jobs" (
	"id" serial PRIMARY KEY NOT NULL,
	"title" text NOT NULL,
	"client" text DEFAULT '' NOT NULL,
	"time_zone" text DEFAULT 'UTC' NOT NULL,
	"created_at" timestamp with time zone DEFAULT now() NOT NULL,
	"last_activity" timestamp with time zone DEFAULT now() NOT NULL,
	"archived_at" timestamp with time zone
);
--> statement-breakpoint
CREATE TABLE "log_entries" (
	"id" bigserial PRIMARY KEY NOT NULL,
	"job_id" integer,
	"at" timestamp with time zone DEFAULT now() NOT NULL,
	"what" text NOT NULL,
	"detail" jsonb DEFAULT '{}'::jsonb NOT NULL
);
--> statement-breakpoint
CREATE TABLE "passes" (
	"id" serial PRIMARY KEY NOT NULL,
	"job_id" integer NOT NULL,
	"source_id" integer NOT NULL,
	"volume_id" integer NOT NULL,
	"place" text NOT NULL,
	"state" text DEFAULT 'queued' NOT NULL,
	"wanted" text DEFAULT 'run' NOT NULL,
	"resume" bigint DEFAULT 0 NOT NULL,
	"done" bigint DEFAULT 0 NOT NULL,
	"total" bigint DEFAULT 0 NOT NULL,
	"found_live" integer DEFAULT 0 NOT NULL,
	"found_lost" integer DEFAULT 0 NOT NULL,
	"epoch" integer DEFAULT 0 NOT NULL,
	"worker_id" text,
	"active_ms" bigint DEFAULT 0 NOT NULL,
	"problem" text,
	"created_at" timestamp with time zone DEFAULT now() NOT NULL,
	"finished_at" timestamp with time zone
);
--> statement-breakpoint
CREATE TABLE "restore_results" (
	"id" bigserial PRIMARY KEY NOT NULL,
	"restore_id" integer NOT NULL,
	"item_id" bigint NOT NULL,
	"copy_id" bigint NOT NULL,
	"path" text NOT NULL,
	"condition" text NOT NULL,
	"size" bigint NOT NULL,
	"state" text DEFAULT 'waiting' NOT NULL,
	"output" text,
	"sha256" text,
	"problem" text,
	"finished_at" timestamp with time zone
);
--> statement-breakpoint
CREATE TABLE "restores" (
	"id" serial PRIMARY KEY NOT NULL,
	"job_id" integer NOT NULL,
	"destination" text NOT NULL,
	"conflict" text NOT NULL,
	"state" text DEFAULT 'queued' NOT NULL,
	"epoch" integer DEFAULT 0 NOT NULL,
	"problem" text,
	"created_at" timestamp with time zone DEFAULT now() NOT NULL,
	"finished_at" timestamp with time zone
);
--> statement-breakpoint
CREATE TABLE "sources" (
	"id" serial PRIMARY KEY NOT NULL,
	"job_id" integer NOT NULL,
	"path" text NOT NULL,
	"name" text NOT NULL,
	"size" bigint NOT NULL,
	"container" text NOT NULL,
	"table_kind" text NOT NULL,
	"notes" jsonb NOT NULL,
	"added_at" timestamp with time zone DEFAULT now() NOT NULL
);
--> statement-breakpoint
CREATE TABLE "tray_entries" (
	"job_id" integer NOT NULL,
	"item_id" bigint NOT NULL,
	"added_at" timestamp with time zone DEFAULT now() NOT NULL,
	CONSTRAINT "tray_entries_job_id_item_id_pk" PRIMARY KEY("job_id","item_id")
);
--> statement-breakpoint
CREATE TABLE "volumes" (
	"id" serial PRIMARY KEY NOT NULL,
	"source_id" integer NOT NULL,
	"number" integer NOT NULL,
	"offset_bytes" bigint NOT NULL,
	"length_bytes" bigint NOT NULL,
	"filesystem" text NOT NULL,
	"label" text,
	"cluster_size" integer,
	"readable" boolean NOT NULL,
	"used_bytes" bigint,
	"usage" "bytea",
	"notes" jsonb NOT NULL
);
--> statement-breakpoint
CREATE TABLE "workers" (
	"id" text PRIMARY KEY NOT NULL,
	"host" text NOT NULL,
	"pid" integer NOT NULL,
	"queue_names" text[] NOT NULL,
	"started_at" timestamp with time zone DEFAULT now() NOT NULL,
	"last_seen" timestamp with time zone DEFAULT now() NOT NULL
);
--> statement-breakpoint
ALTER TABLE "accounts" ADD CONSTRAINT "accounts_job_id_jobs_id_fk" FOREIGN KEY ("job_id") REFERENCES "public"."jobs"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "log_entries" ADD CONSTRAINT "log_entries_job_id_jobs_id_fk" FOREIGN KEY ("job_id") REFERENCES "public"."jobs"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "passes" ADD CONSTRAINT "passes_job_id_jobs_id_fk" FOREIGN KEY ("job_id") REFERENCES "public"."jobs"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "passes" ADD CONSTRAINT "passes_source_id_sources_id_fk" FOREIGN KEY ("source_id") REFERENCES "public"."sources"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "passes" ADD CONSTRAINT "passes_volume_id_volumes_id_fk" FOREIGN KEY ("volume_id") REFERENCES "public"."volumes"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "restore_results" ADD CONSTRAINT "restore_results_restore_id_restores_id_fk" FOREIGN KEY ("restore_id") REFERENCES "public"."restores"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "restores" ADD CONSTRAINT "restores_job_id_jobs_id_fk" FOREIGN KEY ("job_id") REFERENCES "public"."jobs"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "sources" ADD CONSTRAINT "sources_job_id_jobs_id_fk" FOREIGN KEY ("job_id") REFERENCES "public"."jobs"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "tray_entries" ADD CONSTRAINT "tray_entries_job_id_jobs_id_fk" FOREIGN KEY ("job_id") REFERENCES "public"."jobs"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "volumes" ADD CONSTRAINT "volumes_source_id_sources_id_fk" FOREIGN KEY ("source_id") REFERENCES "public"."sources"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX "copies_item" ON "copies" USING btree ("item_id");--> statement-breakpoint
CREATE INDEX "copies_pass" ON "copies" USING btree ("pass_id");--> statement-breakpoint
CREATE UNIQUE INDEX "folders_volume_path" ON "folders" USING btree ("volume_id",md5("path"));--> statement-breakpoint
CREATE INDEX "folders_path_words" ON "folders" USING gin ("path" gin_trgm_ops);--> statement-breakpoint
CREATE INDEX "folders_job" ON "folders" USING btree ("job_id");--> statement-breakpoint
CREATE UNIQUE INDEX "items_job_key" ON "items" USING btree ("job_id","key");--> statement-breakpoint
CREATE INDEX "items_name_words" ON "items" USING gin ("name" gin_trgm_ops);--> statement-breakpoint
CREATE INDEX "items_order" ON "items" USING btree ("job_id","lost",lower("name"),"id");--> statement-breakpoint
CREATE INDEX "items_folder" ON "items" USING btree ("folder_id");--> statement-breakpoint
CREATE INDEX "log_job" ON "log_entries" USING btree ("job_id","id");--> statement-breakpoint
CREATE INDEX "passes_job" ON "passes" USING btree ("job_id");--> statement-breakpoint
CREATE INDEX "results_restore" ON "restore_results" USING btree ("restore_id","id");--> statement-breakpoint
CREATE INDEX "restores_job" ON "restores" USING btree ("job_id");--> statement-breakpoint
CREATE UNIQUE INDEX "sources_job_path" ON "sources" USING btree ("job_id","path");--> statement-breakpoint
CREATE INDEX "volumes_source" ON "volumes" USING btree ("source_id");