import { fileURLToPath } from "node:url";
import { defineConfig } from "vitest/config";

const alias = { "@": fileURLToPath(new URL(".", import.meta.url)) };

export default defineConfig({
  resolve: { alias },
  test: {
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
