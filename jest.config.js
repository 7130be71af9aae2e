const common = {
  testEnvironment: 'node',
  transform: {
    '^.+\\.[tj]sx?$': [
      '@swc/jest',
      {
        jsc: {
          parser: { syntax: 'typescript', tsx: true },
          transform: { react: { runtime: 'automatic' } },
          target: 'es2022',
        },
        module: { type: 'commonjs' },
      },
    ],
  },
  transformIgnorePatterns: [
    '/node_modules/(?!(d3-[^/]+|d3|internmap|delaunator|robust-predicates|p-retry|is-network-error)/)',
  ],
  extensionsToTreatAsEsm: [],
  modulePathIgnorePatterns: ['<rootDir>/build/', '<rootDir>/var/'],
};

// Two groups: the pure and disk tests need nothing; the services run against a real MariaDB,
// which test/database.ts starts once for the whole run.
export default {
  // One more than the cores of the machine that tests: some of them mostly wait, for leases to end or a worker to come by.
  maxWorkers: 3,
  testSequencer: '<rootDir>/setup/slow-first.cjs',
  testTimeout: 180_000,
  projects: [
    {
      ...common,
      displayName: 'pure',
      testMatch: ['<rootDir>/{core,contract,disk,demo,app,setup,test}/**/*.test.ts?(x)'],
    },
    {
      ...common,
      displayName: 'services',
      testMatch: ['<rootDir>/{server,cli}/**/*.test.ts'],
      globalSetup: '<rootDir>/test/start-database.ts',
      globalTeardown: '<rootDir>/test/stop-database.ts',
    },
  ],
};
