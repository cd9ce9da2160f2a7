import { z } from "zod";
import { ABSENCES } from "../../core/filesystems/file-record";

/** In what form a copy's content is best shown. */
export const PREVIEW_FORMS = ["picture", "text", "document", "tables", "archive", "pdf", "audio", "video", "hex"] as const;

export const previewForm = z.object({
  form: z.enum(PREVIEW_FORMS),
  /** How a person calls the format its content begins; null when none is known. */
  format: z.string().nullable(),
  /** Pixels, for pictures. */
  pixels: z.object({ width: z.number(), height: z.number() }).nullable(),
  /** As the camera wrote it, without a zone; null when it did not. */
  taken: z.string().nullable(),
  camera: z.string().nullable(),
  /** Whether it looks, by content or by name, like a disk that can be opened as a source. */
  disk: z.boolean(),
  /** Whether it is a database whose rows can be read. */
  records: z.boolean(),
  /** Whether it can be shown as a tree of names and values. */
  settings: z.boolean(),
  /** Why there is no content to show; null: there is one, be it of no bytes. */
  absent: z.enum(ABSENCES).nullable(),
});
export type PreviewFacts = z.infer<typeof previewForm>;

export const textPreview = z.object({ text: z.string(), encoding: z.string(), truncated: z.boolean() });
export type TextPreview = z.infer<typeof textPreview>;

export const table = z.object({
  name: z.string(),
  columns: z.array(z.string()),
  rows: z.array(z.array(z.string())),
  /** Rows there are in all; null when not counted. */
  total: z.number().nullable(),
});
export const tablesPreview = z.object({ tables: z.array(table), problem: z.string().nullable() });
export type TablesPreview = z.infer<typeof tablesPreview>;

export const settingsPreview = z.object({
  settings: z.array(
    z.object({
      name: z.string(),
      /** null: it only holds others. */
      value: z.string().nullable(),
      level: z.number(),
      /** The moment it stands for, in UTC, and how that is known. */
      when: z.object({ at: z.string(), how: z.string() }).nullable(),
    }),
  ),
  more: z.boolean(),
  problem: z.string().nullable(),
});
export type SettingsPreview = z.infer<typeof settingsPreview>;

export const archivePreview = z.object({
  members: z.array(
    z.object({
      name: z.string(),
      /** null: not given by the archive. */
      size: z.number().nullable(),
      packed: z.number().nullable(),
      encrypted: z.boolean(),
    }),
  ),
  count: z.number(),
  /** Why not all can be listed, or where the archive is damaged. */
  problem: z.string().nullable(),
});
export type ArchivePreview = z.infer<typeof archivePreview>;

/** The parts of a file's structure with their offsets in the content. */
export const outline = z.array(z.object({ at: z.number(), length: z.number(), name: z.string(), level: z.number() }));
