import { defineConfig } from "@playwright/test";

export default defineConfig({
  testDir: ".",
  timeout: 480_000,
  expect: { timeout: 90_000 }, // a machine several times slower is no fault
  workers: 3, // one more than cores: some tests wait for time to pass
  fullyParallel: false,
  reporter: [["list"]],
  use: {
    viewport: { width: 1280, height: 800 },
    launchOptions: {
      executablePath: "/usr/bin/chromium",
      args: [
        "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
        "--disable-background-networking", "--disable-component-update", "--disable-sync",
      ],
    },
  },
});
