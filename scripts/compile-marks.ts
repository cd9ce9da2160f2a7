import { writeFileSync } from "node:fs";
import { main } from "assemblyscript/asc";

const SOURCE = "core/sweep/compiled/marks.ts";

/** Compiles the sweep's inner loops. @returns the module's bytes. @throws Error with the compiler's words when it refuses them */
export async function compileMarks(): Promise<Uint8Array> {
  let code: Uint8Array | null = null;
  const { error, stderr } = await main(
    [SOURCE, "-O3", "--noAssert", "--enable", "simd", "--runtime", "stub", "--importMemory", "-o", "marks.wasm"],
    {
      writeFile: (name, content) => {
        if (name.endsWith(".wasm")) code = typeof content === "string" ? Buffer.from(content) : content;
      },
    },
  );
  if (error || code === null) throw new Error(`${error?.message ?? "nothing was compiled"}\n${stderr.toString()}`);
  return code;
}

/** How the module is kept: in a source file, so that whatever bundles the rest takes it along. */
export const marksFile = (code: Uint8Array): string =>
  `// Compiled from ${SOURCE} by scripts/compile-marks.ts; a test keeps the two together.
export const MARKS_CODE =
  "${Buffer.from(code).toString("base64")}";
`;

export const MARKS_FILE = "core/sweep/marks-code.ts";

if (process.argv[1]?.endsWith("compile-marks.ts")) writeFileSync(MARKS_FILE, marksFile(await compileMarks()));
