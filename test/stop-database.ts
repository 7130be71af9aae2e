import { rmSync } from 'node:fs';
import type { OwnDatabase } from '../setup/mariadb.ts';

export default async function stop() {
  const { testDatabase, testFolder } = globalThis as { testDatabase?: OwnDatabase; testFolder?: string | null };
  await testDatabase?.stop();
  // What lies in memory takes it from others.
  if (testFolder) rmSync(testFolder, { recursive: true, force: true });
}
