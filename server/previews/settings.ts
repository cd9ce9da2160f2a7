import { MemorySource } from "../../core/bytes/byte-source";
import { decodeText } from "../../core/bytes/text-encoding";
import { identify } from "../../core/formats/registry";
import { formOfSettings, readSettings, type SettingsForm } from "../../core/records/settings";
import type { StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { wholeContent } from "./content";
import type { SettingsPreview } from "./contract";

const MOST_BYTES = 1 << 24;

/** As what a content is shown as a tree of names and values; null: as none. @param format of its content; not set: it is none that is known */
export const settingsForm = (format: string | undefined, name: string, size: number): SettingsForm | null =>
  size > MOST_BYTES ? null : formOfSettings(format, name);

/** The names and values of a file of settings. @throws Problem when it is too damaged for that */
export async function settingsOf(copy: StoredCopy): Promise<SettingsPreview> {
  const bytes = await wholeContent(copy, MOST_BYTES, "file of settings");
  const form = settingsForm(identify(new MemorySource(bytes), copy.name)?.id, copy.name, bytes.length);
  const read = form && readSettings(form, bytes, decodeText(bytes), Date.now() / 1000);
  if (!read) throw new Problem("This file is too damaged to be shown as a tree. What stands in it is shown instead.", 422);
  return { ...read, settings: read.settings.map((each) => ({ ...each })) };
}
