import { availableParallelism } from "node:os";
import { fileURLToPath } from "node:url";
import { defineConfig } from "vitest/config";

const alias = { "@": fileURLToPath(new URL(".", import.meta.url)) };

/** Files that need a process of their own: they replace parts of the system's modules, or measure the memory of what they run. */
const APART = ["io/carry.test.ts", "io/io.test.ts", "io/unreadable.test.ts", "core/hostile*.test.ts"];

/** Files of tests that damage files many thousand times, or compare whole collections. */
const LONG = [
  "**/hostile*.test.ts",
  "**/agreement.test.ts",
  "**/resume.test.ts",
  "**/pool.test.ts",
  "core/sweep/sweep.test.ts",
  "cli/*.test.ts",
];
/** Single tests that take about a second or more each. A quick look (`npm run quick`) does without them, and without the files of `LONG`. */
const LONG_TEST = { name: "long", description: "Takes about a second or more.", timeout: 300_000 };

const left = process.env.COMPASS_QUICK ? LONG : [];

/** Faults of readers are not passed over in tests. */
const SHOWN = ["tests/support/show-reader-faults.ts"];

export default defineConfig({
  resolve: { alias },
  test: {
    // What was compiled once is kept for the next run.
    experimental: { fsModuleCache: true },
    tags: [LONG_TEST],
    // Every core works: left alone, one of them would be kept for the watcher.
    maxWorkers: availableParallelism(),
    projects: [
      // Modules are loaded once for all files: loading them anew for each took as long as many of the tests.
      {
        resolve: { alias },
        test: {
          name: "unit",
          include: ["{core,io,server,worker,cli,ui,demo,scripts}/**/*.test.{ts,tsx}"],
          exclude: [...APART, ...left],
          setupFiles: SHOWN,
          testTimeout: 60_000,
          pool: "threads",
          isolate: false,
        },
      },
      { resolve: { alias }, test: { name: "apart", include: APART, exclude: left, setupFiles: SHOWN, testTimeout: 60_000 } },
      ...["integration", "faults"].map((name) => ({
        resolve: { alias },
        test: {
          name,
          include: [`tests/${name}/**/*.test.ts`],
          testTimeout: 90_000,
          hookTimeout: 90_000,
        },
      })),
    ],
  },
});
