CREATE TABLE "pass_notes" (
	"id" bigserial PRIMARY KEY NOT NULL,
	"pass_id" integer NOT NULL,
	"noted" "bytea" NOT NULL
);
--> statement-breakpoint
ALTER TABLE "pass_notes" ADD CONSTRAINT "pass_notes_pass_id_passes_id_fk" FOREIGN KEY ("pass_id") REFERENCES "public"."passes"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX "pass_notes_pass" ON "pass_notes" USING btree ("pass_id","id");