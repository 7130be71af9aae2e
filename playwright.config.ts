import { defineConfig } from '@playwright/test';
import { HOME, PORT } from './e2e/place.ts';

export default defineConfig({
  testDir: 'e2e',
  outputDir: `${HOME}/results`,
  workers: 1,
  fullyParallel: false,
  // For a machine in its slowest hour: what hangs ends, what is slow does not fail.
  timeout: 300_000,
  expect: { timeout: 45_000 },
  globalSetup: './e2e/start.ts',
  reporter: [['list'], ['json', { outputFile: `${HOME}/report.json` }]],
  use: {
    baseURL: `http://127.0.0.1:${PORT}`,
    viewport: { width: 1280, height: 800 },
    actionTimeout: 45_000,
    launchOptions: {
      executablePath: '/usr/bin/chromium',
      chromiumSandbox: false,
      args: [
        '--disable-gpu',
        '--disable-dev-shm-usage',
        '--disable-quic',
        '--no-first-run',
        '--disable-background-networking',
        '--disable-component-update',
        '--disable-sync',
      ],
    },
  },
});
