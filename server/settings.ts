import { availableParallelism } from "node:os";
import { delimiter, resolve } from "node:path";
import { z } from "zod";

const absolute = z
  .string()
  .min(1)
  .transform((path) => resolve(path));

/** Several folders, one behind the other as in PATH. */
const folders = (standard: string) =>
  z
    .string()
    .default(standard)
    .transform((list) =>
      list
        .split(delimiter)
        .filter(Boolean)
        .map((path) => resolve(path)),
    );

const schema = z
  .object({
    /** Folders whose images may be read. */
    COMPASS_SOURCES: folders("data/sources"),
    /** Folders whose own folders may be read as well: where drives are usually mounted. */
    COMPASS_SOURCE_ROOTS: folders(["/media", "/mnt", "/run/media"].join(delimiter)),
    /** Whether connected drives may be read themselves, beside images of them; "all": devices made of files too. */
    COMPASS_DRIVES: z.enum(["offer", "all", "hide"]).default("offer"),
    /** Folder below which restores are written. */
    COMPASS_DELIVERY: absolute.default(resolve("data/delivery")),
    /** Further folders below which restores may be written: other devices. */
    COMPASS_DELIVERY_MORE: folders(""),
    /** Drives that take the place of a client's lost one: files go back to where they stood, from this folder on. */
    COMPASS_REPLACEMENTS: folders(""),
    /** Folder for what the application itself keeps. */
    COMPASS_DATA: absolute.default(resolve("data")),
    /** Nobody signs in here: whoever reaches the bench may use it, so it stays on this computer. */
    COMPASS_HOST: z
      .string()
      .regex(
        /^(localhost|127(\.\d{1,3}){3}|::1)$/,
        "the bench has no sign-in and stays on this computer (127.0.0.1, ::1 or localhost); reach it from another one through a tunnel, for instance ssh -L 4310:127.0.0.1:4310",
      )
      .default("127.0.0.1"),
    COMPASS_PORT: z.coerce.number().int().min(1).max(65_535).default(4310),
    /**
     * Address at which clients reach what was shared with them, and nothing else; empty: nothing can be shared. The port is the one behind
     * the bench's own by default.
     */
    COMPASS_SHARE_HOST: z.string().default(""),
    COMPASS_SHARE_PORT: z.coerce.number().int().min(1).max(65_535).optional(),
    /** How such a link begins, where clients reach it under another name than that address, for instance https://files.example. */
    COMPASS_SHARE_ADDRESS: z
      .string()
      .regex(/^https?:\/\/[^/\s]+$/, "must be like https://files.example, without a path")
      .optional(),
    /** Certificate and key (PEM files) for links that are encrypted on their way. */
    COMPASS_SHARE_CERTIFICATE: absolute.optional(),
    COMPASS_SHARE_KEY: absolute.optional(),
    /** Copies stored in one transaction at most. */
    COMPASS_BATCH: z.coerce.number().int().min(1).max(100_000).default(10_000),
    /** Threads that look through a sweep's stretches at the same time. */
    COMPASS_SWEEP_THREADS: z.coerce
      .number()
      .int()
      .min(1)
      .max(64)
      .default(Math.max(1, Math.min(8, availableParallelism() - 1))),
    /** Seconds after which a worker that gives no sign of life is taken for dead. */
    COMPASS_DEAD_AFTER: z.coerce.number().int().min(3).max(3600).default(30),
    /** An existing PostgreSQL server; by default one of our own is started. */
    COMPASS_DATABASE_URL: z
      .string()
      .regex(/^postgres(ql)?:\/\//, "must begin with postgres://")
      .optional(),
  })
  .refine((found) => (found.COMPASS_SHARE_CERTIFICATE === undefined) === (found.COMPASS_SHARE_KEY === undefined), {
    path: ["COMPASS_SHARE_KEY"],
    message: "certificate and key go together",
  });

export type Settings = z.infer<typeof schema>;

/**
 * The settings from the environment.
 * @throws Error that names each wrong setting in plain words
 */
export function readSettings(environment: Record<string, string | undefined> = process.env): Settings {
  const parsed = schema.safeParse(environment);
  if (parsed.success) return parsed.data;
  throw new Error(parsed.error.issues.map((issue) => `The setting ${issue.path.join(".")} is not right: ${issue.message}.`).join("\n"));
}
