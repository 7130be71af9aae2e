import { defineConfig } from '@playwright/test';

export default defineConfig({
  testDir: 'e2e',
  outputDir: 'var/e2e/results',
  workers: 1,
  fullyParallel: false,
  timeout: 90_000,
  expect: { timeout: 20_000 },
  globalSetup: './e2e/start.ts',
  reporter: [['list'], ['json', { outputFile: 'var/e2e/report.json' }]],
  use: {
    baseURL: 'http://127.0.0.1:4790',
    viewport: { width: 1280, height: 800 },
    actionTimeout: 20_000,
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
