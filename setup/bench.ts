// Runs one benchmark of bench/ in a process of its own.
import { spawnSync } from 'node:child_process';
import { existsSync } from 'node:fs';
import { buildThreads, DISK_CALLS } from './threads.ts';
import { SetupError } from './trouble.ts';

export async function bench([name = 'read', ...args]: readonly string[]): Promise<void> {
  const file = `bench/${name}.ts`;
  if (!/^[a-z-]+$/.test(name) || !existsSync(file))
    throw new SetupError(`There is no benchmark named ${name}; see bench/.`);
  await buildThreads();
  const env = { ...process.env, UV_THREADPOOL_SIZE: DISK_CALLS };
  const { status } = spawnSync(process.execPath, ['--import', 'tsx', file, ...args], { stdio: 'inherit', env });
  process.exitCode = status ?? 1;
}
