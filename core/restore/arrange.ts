import type { Kind } from "../formats/format";
import { KIND_TITLES } from "../formats/kind-titles";
import { safeComponents, safeName } from "./names";

/** How restored files lie below their destination: in their own folders, all in one, by kind, or by the day they were taken or changed. */
export const LAYOUTS = ["tree", "flat", "kind", "date"] as const;
export type RestoreLayout = (typeof LAYOUTS)[number];

/** What of a file a layout and a pattern of names go by. */
export interface ArrangedFile {
  /** "/" first, the name last. */
  readonly path: string;
  readonly name: string;
  readonly kind: Kind;
  /** UTC milliseconds. */
  readonly modified: number | null;
  /** When a picture was taken, by its camera; milliseconds as if it were UTC. */
  readonly taken?: number | undefined;
  readonly title?: string | undefined;
  readonly camera?: string | undefined;
  /** The extension its content has where its own name is lost; without a dot. */
  readonly extension?: string | undefined;
  /** Counts the files of a restore, from 1. */
  readonly number: number;
}

const UNDATED = "Undated";
const DIGITS = 4;

/** What may stand in a pattern of names, between braces. */
const TOKENS: Readonly<Record<string, (file: ArrangedFile) => string>> = {
  name: ({ name }) => splitName(name).stem,
  ext: (file) => extensionOf(file),
  date: (file) => dayOf(file) ?? "undated",
  time: (file) => momentOf(file)?.toISOString().slice(11, 19).replaceAll(":", "-") ?? "",
  year: (file) => dayOf(file)?.slice(0, 4) ?? "undated",
  number: ({ number }) => String(number).padStart(DIGITS, "0"),
  title: ({ title, name }) => title?.trim() || splitName(name).stem,
  camera: ({ camera }) => camera?.trim() || "unknown camera",
  folder: ({ path }) => path.split("/").at(-2) ?? "",
};

/** The words that may stand between braces. */
export const NAME_TOKENS: readonly string[] = Object.keys(TOKENS);

/** Those that mean what a content says of itself, where it does. */
const OF_CONTENT: readonly string[] = ["date", "time", "year", "title", "camera"];

/** A pattern has something between braces that stands for nothing. The message names what may stand there. */
export class PatternError extends Error {}

/** A pattern of names, as `{date} {name}`: the extension is added where it is not in it. */
export class NamePattern {
  constructor(readonly text: string) {
    const unknown = [...text.matchAll(/\{([^{}]*)\}/g)].map(([, token]) => token as string).find((token) => !(token in TOKENS));
    if (unknown !== undefined || /[{}]/.test(text.replace(/\{[^{}]*\}/g, "")) || text.trim() === "" || text.includes("/"))
      throw new PatternError(
        `A pattern of names has letters and ${Object.keys(TOKENS)
          .map((token) => `{${token}}`)
          .join(", ")}${unknown === undefined ? "" : `; not {${unknown}}`}.`,
      );
  }

  /** Whether names go by the number of a file. */
  get counts(): boolean {
    return this.text.includes("{number}");
  }

  /** Whether names go by what a content says of itself. */
  get tellsOfContent(): boolean {
    return OF_CONTENT.some((token) => this.text.includes(`{${token}}`));
  }

  nameOf(file: ArrangedFile): string {
    const made = this.text.replace(/\{([^{}]*)\}/g, (_, token: string) => TOKENS[token]?.(file) ?? "").trim();
    const extension = extensionOf(file);
    return this.text.includes("{ext}") || extension === "" ? made : `${made}.${extension}`;
  }
}

/** Says how a file is called: by a pattern, or by its own name, with the extension it has lost. */
export const nameOf = (file: ArrangedFile, pattern: NamePattern | null): string => (pattern ? pattern.nameOf(file) : withExtension(file));

/** Says where a file is written, as safe folder and file names below the destination, its own last. */
export function arrange(file: ArrangedFile, layout: RestoreLayout, pattern: NamePattern | null): string[] {
  const name = safeName(nameOf(file, pattern));
  if (layout === "flat") return [name];
  if (layout === "kind") return [KIND_TITLES[file.kind], name];
  if (layout === "date") {
    const day = dayOf(file);
    return day ? [day.slice(0, 4), day, name] : [UNDATED, name];
  }
  return [...safeComponents(file.path).slice(0, -1), name];
}

const splitName = (name: string): { stem: string; extension: string } => {
  const dot = name.lastIndexOf(".");
  return dot > 0 && name.length - dot <= 12 ? { stem: name.slice(0, dot), extension: name.slice(dot + 1) } : { stem: name, extension: "" };
};
const extensionOf = ({ name, extension }: ArrangedFile): string => splitName(name).extension || extension || "";
const withExtension = (file: ArrangedFile): string => {
  const { extension } = splitName(file.name);
  return extension === "" && file.extension ? `${file.name}.${file.extension}` : file.name;
};
const momentOf = ({ taken, modified }: ArrangedFile): Date | null => {
  const at = taken ?? modified;
  return at == null || !Number.isFinite(at) || Math.abs(at) > 8.64e15 ? null : new Date(at);
};
const dayOf = (file: ArrangedFile): string | null => momentOf(file)?.toISOString().slice(0, 10) ?? null;
