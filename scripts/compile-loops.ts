import { writeFileSync } from "node:fs";
import { main } from "assemblyscript/asc";

/** What is compiled to WebAssembly, and where the module is kept: in a source file, so that whatever bundles the rest takes it along. */
export const LOOPS = [
  { source: "core/sweep/compiled/marks.ts", kept: "core/sweep/marks-code.ts", name: "MARKS_CODE" },
  { source: "core/bytes/compiled/lz.ts", kept: "core/bytes/lz-code.ts", name: "LZ_CODE" },
] as const;

type Loop = (typeof LOOPS)[number];

/** Compiles inner loops. @returns the module's bytes. @throws Error with the compiler's words when it refuses them */
async function compile(source: string): Promise<Uint8Array> {
  let code: Uint8Array | null = null;
  const { error, stderr } = await main(
    [source, "-O3", "--noAssert", "--enable", "simd", "--runtime", "stub", "--importMemory", "-o", "loops.wasm"],
    {
      writeFile: (name, content) => {
        if (name.endsWith(".wasm")) code = typeof content === "string" ? Buffer.from(content) : content;
      },
    },
  );
  if (error || code === null) throw new Error(`${error?.message ?? "nothing was compiled"}\n${stderr.toString()}`);
  return code;
}

/** The file in which a module is kept, compiled anew. */
export async function loopFile({ source, name }: Loop): Promise<string> {
  const code = Buffer.from(await compile(source)).toString("base64");
  return `// Compiled from ${source} by scripts/compile-loops.ts; a test keeps the two together.
export const ${name} =
  "${code}";
`;
}

if (process.argv[1]?.endsWith("compile-loops.ts")) for (const loop of LOOPS) writeFileSync(loop.kept, await loopFile(loop));
