import { MemorySource } from "../../core/bytes/byte-source";
import { identify } from "../../core/formats/registry";
import { readSettings, type SettingsForm } from "../../core/records/settings";
import type { StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { wholeContent } from "./content";
import type { SettingsPreview } from "./contract";
import { decodeText } from "./texts";

const MOST_BYTES = 1 << 24;

/** Usual names of files with a name and a value a line (common practice, no published source). */
const SECTIONS = /\.(ini|cfg|conf|inf)$/i;
const FORMS: Readonly<Record<string, SettingsForm>> = { plist: "plist", "plist-xml": "plist", json: "json", xml: "xml" };

/** As what a content is shown as a tree of names and values; null: as none. */
export function settingsForm(format: string | undefined, name: string, size: number): SettingsForm | null {
  if (size > MOST_BYTES) return null;
  return FORMS[format ?? ""] ?? (SECTIONS.test(name) && (format === "text" || format === "words") ? "ini" : null);
}

/** The names and values of a file of settings. @throws Problem when it is too damaged for that */
export async function settingsOf(copy: StoredCopy): Promise<SettingsPreview> {
  const bytes = await wholeContent(copy, MOST_BYTES, "file of settings");
  const form = settingsForm(identify(new MemorySource(bytes), copy.name)?.id, copy.name, bytes.length);
  const read = form && readSettings(form, bytes, decodeText(bytes), Date.now() / 1000);
  if (!read) throw new Problem("This file is too damaged to be shown as a tree. What stands in it is shown instead.", 422);
  return { ...read, settings: read.settings.map((each) => ({ ...each })) };
}
