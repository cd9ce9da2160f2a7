import { z } from "zod";

/** A file or folder in the source folders, as the browser of images shows it. */
export const sourceEntry = z.object({
  path: z.string(),
  name: z.string(),
  folder: z.boolean(),
  size: z.number(),
  modified: z.coerce.date().nullable(),
});
export const sourceListing = z.object({
  path: z.string().nullable(),
  parent: z.string().nullable(),
  entries: z.array(sourceEntry),
  problem: z.string().nullable(),
});
export type SourceListing = z.infer<typeof sourceListing>;

export const addSource = z.object({ path: z.string().min(1) });

export const volume = z.object({
  id: z.number(),
  number: z.number(),
  offset: z.number(),
  length: z.number(),
  filesystem: z.string(),
  label: z.string().nullable(),
  clusterSize: z.number().nullable(),
  readable: z.boolean(),
  usedBytes: z.number().nullable(),
  /** Share in use of equal stretches along the volume, 0 … 255. */
  usage: z.array(z.number()),
  notes: z.array(z.string()),
});

export const source = z.object({
  id: z.number(),
  path: z.string(),
  name: z.string(),
  size: z.number(),
  container: z.string(),
  tableKind: z.string(),
  connected: z.boolean(),
  notes: z.array(z.string()),
  volumes: z.array(volume),
});
export type Source = z.infer<typeof source>;
export const sourceList = z.array(source);

/** The file whose content holds a byte of the disk; null: none that was found. */
export const owner = z
  .object({ itemId: z.number(), copyId: z.number(), name: z.string(), folder: z.string(), live: z.boolean() })
  .nullable();
export type Owner = z.infer<typeof owner>;

/** The stretches in use inside a part of the disk, one after the other: start, length, start, length … in bytes; null: too many. */
export const usedRuns = z.object({ runs: z.array(z.number()).nullable() });

/** Where the finds of the passes begin on each source, for the chart: disk byte offsets of lost copies. */
export const finds = z.array(z.object({ sourceId: z.number(), at: z.array(z.number()) }));
export type Finds = z.infer<typeof finds>;
