// Starts the whole application with fresh demo data, on ports of its own, for the browser tests.
import { freePort } from '../setup/mariadb.ts';
import { startAll } from '../setup/start.ts';
import { HOME, PORT } from './place.ts';

export default async function start() {
  // The page of parts is looked at as well.
  process.env.KERAMION_PARTS = '1';
  const started = await startAll({
    home: HOME,
    demo: true,
    fresh: true,
    host: '127.0.0.1',
    port: PORT,
    databasePort: await freePort(),
    databaseUrl: null,
    leaseSeconds: 6,
    durable: false,
    quiet: true,
  });
  process.env.KERAMION_E2E_DATABASE = started.databaseUrl;
  return () => started.stop();
}
