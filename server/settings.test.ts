import { settings } from './settings.ts';

const DATABASE = 'mysql://user@127.0.0.1:1/x';

test('settings have defaults and are checked', () => {
  expect(settings({ KERAMION_DATABASE: DATABASE })).toEqual({
    databaseUrl: DATABASE,
    port: 4700,
    host: '127.0.0.1',
    leaseSeconds: 15,
    batch: 2500,
    names: [],
    paths: {},
  });
  expect(
    settings({
      KERAMION_DATABASE: DATABASE,
      KERAMION_PORT: '8080',
      KERAMION_HOST: '0.0.0.0',
      KERAMION_LEASE_SECONDS: '30',
    }),
  ).toMatchObject({ port: 8080, host: '0.0.0.0', leaseSeconds: 30 });
  for (const bad of [
    {},
    { KERAMION_DATABASE: 'postgres://x' },
    { KERAMION_DATABASE: DATABASE, KERAMION_PORT: '99999' },
    { KERAMION_DATABASE: DATABASE, KERAMION_LEASE_SECONDS: '0' },
  ])
    expect(() => settings(bad as NodeJS.ProcessEnv)).toThrow(/^A setting is wrong: KERAMION_/);
});
