import { defineConfig } from "@playwright/test";

/** These files take about as long as all others: the test command runs both halves beside one another, each on a bench of its own. */
const VIEWS = /(quality|raw|hostile|records|restoring|states|former)\.spec\.ts$/;

export default defineConfig({
  testDir: "tests/e2e",
  globalSetup: "./tests/e2e/start-bench.ts",
  // Two halves run beside one another: on two cores one may have to wait for the other.
  timeout: 180_000,
  expect: { timeout: 40_000 },
  workers: 1,
  fullyParallel: false,
  retries: 0,
  projects: [
    { name: "views", testMatch: VIEWS, outputDir: "test-results/views" },
    { name: "ways", testIgnore: VIEWS, outputDir: "test-results/ways" },
  ],
  use: {
    baseURL: `http://127.0.0.1:${process.env.COMPASS_TEST_PORT}`,
    viewport: { width: 1280, height: 800 },
    trace: "retain-on-failure",
    launchOptions: {
      executablePath: "/usr/bin/chromium",
      chromiumSandbox: false,
      args: [
        "--disable-quic",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
        "--no-first-run",
        "--disable-gpu",
      ],
    },
  },
});
