CREATE TABLE "share_choices" (
	"share_id" integer NOT NULL,
	"copy_id" bigint NOT NULL,
	CONSTRAINT "share_choices_share_id_copy_id_pk" PRIMARY KEY("share_id","copy_id")
);
--> statement-breakpoint
CREATE TABLE "share_sessions" (
	"secret_hash" text PRIMARY KEY NOT NULL,
	"share_id" integer NOT NULL,
	"ends_at" timestamp with time zone NOT NULL
);
--> statement-breakpoint
CREATE TABLE "shares" (
	"id" serial PRIMARY KEY NOT NULL,
	"job_id" integer NOT NULL,
	"scope" text NOT NULL,
	"label" text NOT NULL,
	"secret_hash" text NOT NULL,
	"password_hash" text NOT NULL,
	"created_at" timestamp with time zone DEFAULT now() NOT NULL,
	"ends_at" timestamp with time zone NOT NULL,
	"revoked_at" timestamp with time zone,
	"tries" integer DEFAULT 0 NOT NULL,
	"next_try_at" timestamp with time zone,
	"last_opened_at" timestamp with time zone,
	CONSTRAINT "shares_secret_hash_unique" UNIQUE("secret_hash")
);
--> statement-breakpoint
ALTER TABLE "share_choices" ADD CONSTRAINT "share_choices_share_id_shares_id_fk" FOREIGN KEY ("share_id") REFERENCES "public"."shares"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "share_sessions" ADD CONSTRAINT "share_sessions_share_id_shares_id_fk" FOREIGN KEY ("share_id") REFERENCES "public"."shares"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "shares" ADD CONSTRAINT "shares_job_id_jobs_id_fk" FOREIGN KEY ("job_id") REFERENCES "public"."jobs"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX "shares_job" ON "shares" USING btree ("job_id");