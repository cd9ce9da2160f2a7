CREATE TABLE "thumbnails" (
	"copy_id" bigint PRIMARY KEY NOT NULL,
	"picture" "bytea" NOT NULL
);
