// Runs one benchmark of bench/ in a process of its own.
import { spawnSync } from 'node:child_process';
import { existsSync } from 'node:fs';
import { buildThreads } from './threads.ts';
import { SetupError } from './trouble.ts';

export async function bench([name = 'read', ...args]: readonly string[]): Promise<void> {
  const file = `bench/${name}.ts`;
  if (!/^[a-z-]+$/.test(name) || !existsSync(file))
    throw new SetupError(`There is no benchmark named ${name}; see bench/.`);
  await buildThreads();
  process.exitCode = spawnSync(process.execPath, ['--import', 'tsx', file, ...args], { stdio: 'inherit' }).status ?? 1;
}
