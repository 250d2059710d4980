import { defineConfig } from '@playwright/test';

/** Drives Debian's Chromium against a running demo; ./imbrek test starts one and says where in IMBREK_URL. */
export default defineConfig({
  testDir: 'e2e',
  // Who only looks disturbs nobody and is beside the others, who act one after the other.
  workers: 2,
  projects: [
    { name: 'looks', workers: 1, testMatch: 'access.spec.ts' },
    {
      name: 'acts',
      workers: 1,
      // Real clusters are looked at where a demo of them runs.
      testIgnore: ['access.spec.ts', ...(process.env.IMBREK_CLUSTERS_URL ? [] : ['clusters.spec.ts'])],
    },
  ],
  timeout: 900_000,
  // On a busy machine only what never comes is a fault.
  expect: { timeout: 180_000 },
  reporter: 'list',
  use: {
    baseURL: process.env.IMBREK_URL ?? 'http://127.0.0.1:8420',
    viewport: { width: 1280, height: 800 },
    launchOptions: {
      executablePath: '/usr/bin/chromium-headless-shell',
      // Pages live for seconds: what they run often is not worth compiling once more.
      args: [
        '--no-sandbox',
        '--js-flags=--no-opt',
        '--host-resolver-rules=MAP * ~NOTFOUND, EXCLUDE 127.0.0.1, EXCLUDE localhost',
      ],
    },
  },
});
