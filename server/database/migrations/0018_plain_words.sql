ALTER TABLE "accounts" RENAME COLUMN "told" TO "account";--> statement-breakpoint
UPDATE "place_rules" SET "rule" = ("rule" - 'told') || jsonb_build_object('note', "rule"->'told') WHERE "rule" ? 'told';
