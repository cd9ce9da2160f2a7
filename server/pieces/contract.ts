import { z } from "zod";
import { CONDITIONS, MOST_PIECES } from "../../core/copies/vocabulary";

/** A stretch of the disk that a file's next bytes are taken from. The length of the last one is not asked: it ends where the file does. */
const piece = z.object({ at: z.number().int().nonnegative(), length: z.number().int().nonnegative() });
export type Piece = z.infer<typeof piece>;

export const laying = z.object({ pieces: z.array(piece).min(1).max(MOST_PIECES) });

/** The bytes on both sides of a seam: base64. */
const seam = z.object({ before: z.string(), behind: z.string() });

/** A file as it comes out of pieces. */
export const laidLook = z.object({
  pieces: z.array(piece),
  size: z.number(),
  /** What was looked at: how a person calls the type of the file; null: its type is not known. */
  format: z.string().nullable(),
  condition: z.enum(CONDITIONS),
  survival: z.number(),
  /** Byte of the file at which it breaks off, and why; null: nothing shows that it does. */
  breaks: z.object({ at: z.number(), reason: z.string() }).nullable(),
  /** It was followed to its end, and is sound. */
  opens: z.boolean(),
  picture: z.boolean(),
  seams: z.array(seam),
  /** Where clusters begin, and the stretch pieces may stand in: bytes of the disk. */
  grid: z.object({ cluster: z.number(), origin: z.number(), from: z.number(), to: z.number() }),
  /** Its size is recorded: the last piece ends with it. */
  sized: z.boolean(),
  /** A longer look can be had. */
  searchable: z.boolean(),
});
export type LaidLook = z.infer<typeof laidLook>;

/** The copy that was kept; null: there is none, for this reason. */
export const keptPieces = z.object({ copyId: z.number().nullable(), itemId: z.number(), words: z.string() });
export type KeptPieces = z.infer<typeof keptPieces>;

/** Pieces as an address has them: "place-length", one after the other. */
export const piecesText = (pieces: readonly Piece[]): string => pieces.map(({ at, length }) => `${at}-${length}`).join(",");

/** @throws ZodError where the text is no such list */
export const piecesFrom = (text: string): Piece[] =>
  laying.parse({
    pieces: text.split(",").map((each) => {
      const [at, length] = /^\d{1,16}-\d{1,16}$/.test(each) ? each.split("-").map(Number) : [];
      return { at, length };
    }),
  }).pieces;
