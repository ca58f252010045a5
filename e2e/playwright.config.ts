import { defineConfig } from '@playwright/test';

/**
 * The real interface in Debian's Chromium, on a real installation that `src/installation.ts` starts for the whole run.
 */
export default defineConfig({
  testDir: 'src',
  globalSetup: './src/installation.ts',
  workers: 1,
  timeout: 180_000,
  expect: { timeout: 45_000 },
  reporter: [['list'], ['json', { outputFile: '../test-results/playwright.json' }]],
  outputDir: '../test-results/e2e',
  use: {
    viewport: { width: 1280, height: 800 },
    timezoneId: 'Europe/London',
    locale: 'en-GB',
    trace: 'retain-on-failure',
    launchOptions: {
      executablePath: process.env.CHROMIUM ?? '/usr/bin/chromium',
      args: [
        '--no-sandbox',
        '--disable-gpu',
        '--disable-quic',
        '--no-first-run',
        '--disable-background-networking',
        '--disable-component-update',
        '--disable-sync',
      ],
    },
  },
});
