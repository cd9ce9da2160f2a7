import { availableParallelism } from "node:os";
import { fileURLToPath } from "node:url";
import { defineConfig } from "vitest/config";

const alias = { "@": fileURLToPath(new URL(".", import.meta.url)) };

export default defineConfig({
  resolve: { alias },
  test: {
    // Every core works: left alone, one of them would be kept for the watcher.
    maxWorkers: availableParallelism(),
    projects: [
      {
        resolve: { alias },
        test: { name: "unit", include: ["{core,io,server,worker,cli,ui,demo,scripts}/**/*.test.{ts,tsx}"], testTimeout: 60_000 },
      },
      ...["integration", "faults"].map((name) => ({
        resolve: { alias },
        test: {
          name,
          include: [`tests/${name}/**/*.test.ts`],
          testTimeout: 90_000,
          hookTimeout: 90_000,
          fileParallelism: false,
        },
      })),
    ],
  },
});
