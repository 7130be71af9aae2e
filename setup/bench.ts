// Runs one benchmark of bench/ in a process of its own, built as the product's worker is, so that it costs what that costs.
import { spawnSync } from 'node:child_process';
import { existsSync } from 'node:fs';
import path from 'node:path';
import { buildThreads, DISK_CALLS } from './threads.ts';
import { SetupError } from './trouble.ts';

export async function bench([name = 'read', ...args]: readonly string[]): Promise<void> {
  const file = `bench/${name}.ts`;
  if (!/^[a-z-]+$/.test(name) || !existsSync(file))
    throw new SetupError(`There is no benchmark named ${name}; see bench/.`);
  const folder = await buildThreads(undefined, [file]);
  const built = path.join(folder, 'bench', `${name}.mjs`);
  const env = { ...process.env, UV_THREADPOOL_SIZE: DISK_CALLS };
  const { status } = spawnSync(process.execPath, [built, ...args], { stdio: 'inherit', env });
  process.exitCode = status ?? 1;
}
