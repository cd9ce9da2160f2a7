ALTER TABLE "passes" ALTER COLUMN "resume" DROP DEFAULT;--> statement-breakpoint
ALTER TABLE "passes" ALTER COLUMN "resume" DROP NOT NULL;--> statement-breakpoint
-- Numbers become checkpoints as readers write them now: a tag, then the number in eight bytes (core/bytes/checkpoint.ts).
ALTER TABLE "passes" ALTER COLUMN "resume" SET DATA TYPE bytea USING CASE WHEN "resume" = 0 THEN NULL ELSE '\x01'::bytea || int8send("resume") END;
