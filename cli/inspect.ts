import { openSource } from "../io/open-source";
import type { Options } from "./main";
import { EXIT, flush, line, oneSource, say } from "./output";

/** `compass inspect`: a line a volume. */
export function inspect(positionals: readonly string[], options: Options): number {
  const source = openSource(oneSource(positionals));
  const { report } = source;
  for (const note of report.notes) say(note);
  for (const volume of report.volumes) {
    const notes = volume.volume === 0 ? [...report.notes, ...volume.notes] : volume.notes;
    const words = `volume ${volume.volume}: ${volume.filesystem}${volume.label ? ` “${volume.label}”` : ""}, ${volume.length} bytes at ${volume.offset}`;
    line(options.json, { ...volume, notes }, [words, ...volume.notes.map((note) => `  ${note}`)].join("\n"));
  }
  flush();
  source.close();
  return EXIT.done;
}
