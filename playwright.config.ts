import { defineConfig } from '@playwright/test'
import { browserArgs } from './scripts/lib/browser.mjs'
import { chromium } from './scripts/lib/packages.mjs'

export default defineConfig({
  testDir: 'tests/e2e',
  outputDir: 'test-results',
  // One works for all: they change it, so one after the other.
  workers: 1,
  fullyParallel: false,
  // A machine that has other things to do as well is slow, and not wrong.
  timeout: 360_000,
  expect: { timeout: 45_000 },
  // The thread first: it measures from the start of the processes. The search for secrets last: it looks at what all left behind.
  projects: [
    { name: 'thread', testMatch: 'thread.spec.ts' },
    { name: 'rest', testIgnore: ['thread.spec.ts', 'secrets.spec.ts'] },
    { name: 'secrets', testMatch: 'secrets.spec.ts', dependencies: ['thread', 'rest'] },
  ],
  globalSetup: './tests/e2e/setup.ts',
  use: {
    baseURL: `http://127.0.0.1:${process.env.EMBRIK_E2E_BASE ?? 5600}`,
    viewport: { width: 1280, height: 800 },
    launchOptions: { executablePath: chromium() ?? undefined, args: browserArgs },
    screenshot: 'only-on-failure',
    trace: 'off',
  },
})
