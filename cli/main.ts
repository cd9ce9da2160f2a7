import { parseArgs } from "node:util";
import { SourceError } from "../io/open-source";
import { checkFiles } from "./check";
import { inspect } from "./inspect";
import { list } from "./list";
import { EXIT, Usage } from "./output";
import { restore } from "./restore";

const HELP = `Tidy Compass, command line

  compass inspect SOURCE [--json]
      the partition table and the volumes of an image

  compass list SOURCE [--volume N] [--state live|deleted|all] [--system] [--json]
      every file and folder a volume's own records tell

  compass restore SOURCE --to DIR [--volume N] [--match GLOB] [--state live|deleted|all] [--json]
      writes files with their folders under DIR, reads them again and tells their SHA-256

  compass check FILE… [--json]
      whether files will open

SOURCE is opened for reading only. Exit: 0 done, 1 done with problems, 2 wrong call, 3 source unreadable.
`;

const { string, boolean } = { string: { type: "string" }, boolean: { type: "boolean" } } as const;
const verbs = {
  inspect: { options: { json: boolean }, run: inspect },
  list: { options: { json: boolean, volume: string, state: string, system: boolean }, run: list },
  restore: { options: { json: boolean, volume: string, state: string, system: boolean, match: string, to: string }, run: restore },
  check: { options: { json: boolean }, run: checkFiles },
} as const;

export interface Options {
  json?: boolean;
  volume?: string;
  state?: string;
  system?: boolean;
  match?: string;
  to?: string;
}

function main(): number {
  const [verb, ...rest] = process.argv.slice(2);
  if (verb === undefined || verb === "help" || verb === "--help") {
    process.stderr.write(HELP);
    return verb === undefined ? EXIT.usage : EXIT.done;
  }
  if (!Object.hasOwn(verbs, verb)) throw new Usage(`There is no verb “${verb}”. Known: ${Object.keys(verbs).join(", ")}.`);
  const { options, run } = verbs[verb as keyof typeof verbs];
  const parsed = parse(rest, options);
  return run(parsed.positionals, parsed.values);
}

function parse(args: string[], options: Record<string, { type: "string" | "boolean" }>): { positionals: string[]; values: Options } {
  try {
    const parsed = parseArgs({ args, options, allowPositionals: true, strict: true });
    return { positionals: parsed.positionals, values: parsed.values as Options };
  } catch (error) {
    throw new Usage(`${(error as Error).message.split(". ")[0]}.`);
  }
}

try {
  process.exitCode = main();
} catch (error) {
  if (error instanceof Usage || error instanceof SourceError) {
    process.stderr.write(`${error.message}\n`);
    process.exitCode = error instanceof Usage ? EXIT.usage : EXIT.unreadable;
  } else {
    process.stderr.write(`This should not have happened: ${(error as Error).stack ?? error}\n`);
    process.exitCode = EXIT.unreadable;
  }
}
