import type { Format } from "../formats/format";
import { formatById } from "../formats/registry";

/** Formats without a mark of their own that are asked where a sector begins with text, in this order. */
export const textFormats: readonly Format[] = ["json", "eml", "csv", "words"].map((id) => formatById.get(id) as Format);
