-- The database takes its own statistics, and restores its own copies, with an empty search path: what a function calls is named with its schema
-- (PostgreSQL, "CREATE FUNCTION", search_path). Without that no statistics of items and folders were ever taken by it.
DO $$
DECLARE home text := (SELECT n.nspname FROM pg_extension e JOIN pg_namespace n ON n.oid = e.extnamespace WHERE e.extname = 'unaccent');
BEGIN
  EXECUTE format(
    'CREATE OR REPLACE FUNCTION plain_words(text) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE STRICT AS %L',
    format('SELECT %I.unaccent(%L::regdictionary, $1)', home, format('%I.unaccent', home)));
END $$;--> statement-breakpoint
ANALYZE "items", "folders", "copies";
