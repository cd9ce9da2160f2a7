CREATE EXTENSION IF NOT EXISTS unaccent;--> statement-breakpoint
-- Text without accents, for searching. The dictionary is named, so that it cannot change and an index may rest on it.
CREATE OR REPLACE FUNCTION plain_words(text) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE STRICT
  AS $$ SELECT unaccent('unaccent'::regdictionary, $1) $$;--> statement-breakpoint
DROP INDEX "folders_path_words";--> statement-breakpoint
DROP INDEX "items_name_words";--> statement-breakpoint
CREATE INDEX "folders_path_words" ON "folders" USING gin (plain_words("path") gin_trgm_ops);--> statement-breakpoint
CREATE INDEX "items_name_words" ON "items" USING gin (plain_words("name") gin_trgm_ops) WITH (gin_pending_list_limit=32768);