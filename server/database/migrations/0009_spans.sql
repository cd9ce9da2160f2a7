ALTER TABLE "copies" ADD COLUMN "span" "int8range";--> statement-breakpoint
CREATE INDEX "copies_span" ON "copies" USING gist ("span") WHERE span is not null;