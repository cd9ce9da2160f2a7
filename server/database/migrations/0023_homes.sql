CREATE TABLE "home_paths" (
	"store_id" integer NOT NULL,
	"below" text DEFAULT '' NOT NULL,
	"home_id" integer NOT NULL,
	"at" text DEFAULT '' NOT NULL,
	"reason" text,
	CONSTRAINT "home_paths_store_id_below_pk" PRIMARY KEY("store_id","below")
);
--> statement-breakpoint
CREATE TABLE "homes" (
	"id" serial PRIMARY KEY NOT NULL,
	"job_id" integer NOT NULL,
	"label" text NOT NULL,
	"case_sensitive" boolean DEFAULT false NOT NULL
);
--> statement-breakpoint
ALTER TABLE "stores" ADD COLUMN "serial" bigint;--> statement-breakpoint
ALTER TABLE "home_paths" ADD CONSTRAINT "home_paths_store_id_stores_id_fk" FOREIGN KEY ("store_id") REFERENCES "public"."stores"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "home_paths" ADD CONSTRAINT "home_paths_home_id_homes_id_fk" FOREIGN KEY ("home_id") REFERENCES "public"."homes"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "homes" ADD CONSTRAINT "homes_job_id_jobs_id_fk" FOREIGN KEY ("job_id") REFERENCES "public"."jobs"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX "home_paths_home" ON "home_paths" USING btree ("home_id");--> statement-breakpoint
CREATE INDEX "homes_job" ON "homes" USING btree ("job_id");--> statement-breakpoint
-- Each store has a home of its own, of the same number.
INSERT INTO "homes" ("id", "job_id", "label")
	SELECT v.id, s.job_id, coalesce(v.label, 'volume ' || v.number) FROM stores v JOIN sources s ON s.id = v.source_id;--> statement-breakpoint
SELECT setval('homes_id_seq', greatest((SELECT max(id) FROM homes), 1), EXISTS (SELECT 1 FROM homes));--> statement-breakpoint
INSERT INTO "home_paths" ("store_id", "home_id") SELECT id, id FROM stores;--> statement-breakpoint
-- What all ways of writing a path have in common. Small letters by the Unicode root locale, whatever the database's own.
CREATE FUNCTION "folded_path" (path text, case_sensitive boolean) RETURNS uuid LANGUAGE sql IMMUTABLE PARALLEL SAFE STRICT
	AS $$ SELECT md5(CASE WHEN case_sensitive THEN normalize(path, NFC) ELSE lower(normalize(path, NFC) COLLATE "und-x-icu") END)::uuid $$;
--> statement-breakpoint
ALTER TABLE "folders" RENAME COLUMN "store_id" TO "home_id";--> statement-breakpoint
ALTER INDEX "folders_store_path" RENAME TO "folders_home_path";--> statement-breakpoint
ALTER TABLE "folders" ADD COLUMN "folded" uuid;--> statement-breakpoint
ALTER TABLE "folders" ADD COLUMN "same_as" integer;--> statement-breakpoint
UPDATE "folders" SET "folded" = folded_path("path", false);--> statement-breakpoint
UPDATE "folders" f SET "same_as" = c.id FROM (SELECT home_id, folded, min(id) AS id FROM folders GROUP BY 1, 2 HAVING count(*) > 1) c
	WHERE f.home_id = c.home_id AND f.folded = c.folded AND f.id <> c.id;--> statement-breakpoint
ALTER TABLE "folders" ALTER COLUMN "folded" SET NOT NULL;--> statement-breakpoint
CREATE UNIQUE INDEX "folders_home_folded" ON "folders" USING btree ("home_id","folded") WHERE same_as is null;--> statement-breakpoint
DROP INDEX "items_job_key";--> statement-breakpoint
DROP INDEX "items_folder";--> statement-breakpoint
ALTER TABLE "items" ADD COLUMN "stores" integer[];--> statement-breakpoint
-- Keys were store and path, with the record behind a "#" where the path is not known; they are the name in its folder now. A file that differs
-- from another one in capitals alone keeps the folder as it is written; a key that was too long was a hash.
UPDATE "items" i SET
	"stores" = CASE WHEN i.copies = 1 THEN ARRAY[i.store_id] ELSE coalesce((SELECT array_agg(DISTINCT c.store_id) FROM copies c WHERE c.item_id = i.id), ARRAY[i.store_id]) END,
	"folder_id" = CASE WHEN i.key ~ '#[0-9a-f]{32}$' THEN i.folder_id ELSE coalesce(f.same_as, i.folder_id) END,
	"key" = CASE
		WHEN i.key ~ '^\d+#[0-9a-f]{64}$' THEN lower(normalize(i.name, NFC))
		WHEN right(i.key, length(b.reference) + 1) = '#' || b.reference
			THEN substring(left(i.key, -length(b.reference) - 1) from '[^/]*$') || '#' || i.store_id || ':' || b.reference
		ELSE substring(i.key from '[^/]*$') END
	FROM folders f, (SELECT i.id, c.reference FROM items i LEFT JOIN copies c ON c.id = i.best_copy_id) b
	WHERE f.id = i.folder_id AND b.id = i.id;--> statement-breakpoint
-- An item without a folder is not shown anywhere; none is expected.
UPDATE "items" SET "stores" = ARRAY["store_id"] WHERE "stores" IS NULL;--> statement-breakpoint
UPDATE "items" i SET "key" = i.key || '#' || i.id
	FROM (SELECT id, row_number() OVER (PARTITION BY folder_id, key ORDER BY id) AS n FROM items) d WHERE d.id = i.id AND d.n > 1;--> statement-breakpoint
ALTER TABLE "items" DROP COLUMN "store_id";--> statement-breakpoint
ALTER TABLE "items" ALTER COLUMN "stores" SET NOT NULL;--> statement-breakpoint
CREATE UNIQUE INDEX "items_folder_key" ON "items" USING btree ("folder_id","key");
--> statement-breakpoint
ALTER TABLE "copies" ADD COLUMN "present" "tstzrange";--> statement-breakpoint
ALTER TABLE "copies" ADD COLUMN "same_as" text;--> statement-breakpoint
CREATE INDEX "copies_present" ON "copies" USING gist ("present") WHERE present is not null;
