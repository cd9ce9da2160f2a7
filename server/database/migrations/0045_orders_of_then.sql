CREATE INDEX "copies_then_by_changed" ON "copies" USING btree ("job_id",coalesce("modified", '-infinity'::timestamptz),"item_id") WHERE present is not null;--> statement-breakpoint
CREATE INDEX "copies_then_by_size" ON "copies" USING btree ("job_id","size","item_id") WHERE present is not null;--> statement-breakpoint
CREATE INDEX "copies_then_by_survival" ON "copies" USING btree ("job_id","survival","item_id") WHERE present is not null;--> statement-breakpoint
CREATE INDEX "copies_last" ON "copies" USING btree ("job_id",lower("present")) WHERE upper_inf(present);--> statement-breakpoint
CREATE INDEX "copies_moved" ON "copies" USING btree ("job_id","item_id") WHERE moved_to is not null;--> statement-breakpoint
CREATE INDEX "copies_ended" ON "copies" USING btree ("job_id",upper("present")) WHERE not upper_inf(present);--> statement-breakpoint
CREATE INDEX "copies_there_by_dates" ON "copies" USING btree ("job_id","item_id") WHERE present is null and (deleted_at is not null or (state = 'live' and place <> 'file-record'));