import type { OwnDatabase } from '../setup/mariadb.ts';

export default async function stop() {
  await (globalThis as { testDatabase?: OwnDatabase }).testDatabase?.stop();
}
