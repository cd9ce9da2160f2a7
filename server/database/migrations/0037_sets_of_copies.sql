ALTER TABLE "copies" ADD COLUMN "set_key" text;--> statement-breakpoint
CREATE INDEX "copies_set" ON "copies" USING btree ("job_id","store_id","set_key") WHERE set_key is not null;