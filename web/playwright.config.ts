import { defineConfig } from '@playwright/test';

/** Drives Debian's Chromium against a running demo; ./imbrek test starts one and says where in IMBREK_URL. */
export default defineConfig({
  testDir: 'e2e',
  // Real clusters are looked at where a demo of them runs.
  testIgnore: process.env.IMBREK_CLUSTERS_URL ? [] : ['clusters.spec.ts'],
  workers: 1,
  timeout: 900_000,
  // On a busy machine only what never comes is a fault.
  expect: { timeout: 180_000 },
  reporter: 'list',
  use: {
    baseURL: process.env.IMBREK_URL ?? 'http://127.0.0.1:8420',
    viewport: { width: 1280, height: 800 },
    launchOptions: {
      executablePath: '/usr/bin/chromium',
      args: ['--no-sandbox', '--host-resolver-rules=MAP * ~NOTFOUND, EXCLUDE 127.0.0.1, EXCLUDE localhost'],
    },
  },
});
