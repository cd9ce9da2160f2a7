import { readFileSync } from "node:fs";
import { join } from "node:path";
import { decodeText } from "../../core/bytes/text-encoding";
import { readSettings, type SettingsForm } from "../../core/records/settings";
import { openFixture, recordsFiles } from "./records-truth";
import { below, type Subject } from "./subject";

/** A database with its log and journal, one behind another; each is damaged where pages, frames and records begin more often than elsewhere. */
export function database(name: string): Subject {
  const files = [...recordsFiles(name)];
  const bytes = Uint8Array.from(Buffer.concat(files.map(([, each]) => each)));
  const starts = files.map((_, index) => files.slice(0, index).reduce((sum, [, each]) => sum + each.length, 0));
  const partsOf = (all: Uint8Array) =>
    new Map(files.map(([file, whole], index) => [file, all.subarray(starts[index], (starts[index] as number) + whole.length)] as const));
  return {
    bytes,
    place: (random) => {
      const index = below(random, files.length);
      const { length } = (files[index] as (typeof files)[number])[1];
      const page = random() < 0.3 ? 0 : below(random, Math.ceil(length / 512)) * 512;
      return (starts[index] as number) + Math.min(length - 1, page + below(random, random() < 0.5 ? 16 : 512));
    },
    read: (all) => {
      let rows = 0;
      for (const { values, columns } of openFixture(partsOf(all), true)?.rows() ?? []) {
        rows += 1;
        if (values.length > columns.length) throw new Error("a value without a column");
        if (rows > 100_000) throw new Error("more rows than bytes can hold");
      }
      return rows;
    },
  };
}

/** A file of settings that Python wrote; damaged anywhere. */
export function settingsFile(form: SettingsForm): Subject {
  const made = JSON.parse(readFileSync(join(import.meta.dirname, "../fixtures/settings.json"), "utf8")) as Record<string, unknown>;
  const written = {
    plist: Buffer.from(made.binary as string, "base64"),
    xml: Buffer.from(made.xml as string),
    ini: Buffer.from(made.ini as string, "utf16le"),
    json: Buffer.from(JSON.stringify(made.settings, null, 1)),
  };
  const bytes = Uint8Array.from(written[form]);
  return {
    bytes,
    place: (random) => (random() < 0.2 ? bytes.length - 1 - below(random, Math.min(48, bytes.length)) : below(random, bytes.length)),
    read: (all) => readSettings(form, all, decodeText(all), 1_770_000_000)?.settings.length ?? 0,
  };
}
