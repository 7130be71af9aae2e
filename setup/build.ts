// Builds the interface when something it is built from changed.
import { spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { existsSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { SetupError } from './trouble.ts';

const FROM = [
  'app',
  'core',
  'contract',
  'disk',
  'server',
  'public',
  'package-lock.json',
  'vite.config.ts',
  'react-router.config.ts',
];
const STAMP = 'build/.keramion-built';

function marks(at: string): string[] {
  if (!existsSync(at)) return [];
  const stats = statSync(at);
  if (!stats.isDirectory()) return [`${at} ${stats.size} ${stats.mtimeMs}`];
  return readdirSync(at)
    .sort()
    .flatMap((name) => marks(path.join(at, name)));
}

export function build(): void {
  const mark = createHash('sha256').update(FROM.flatMap(marks).join('\n')).digest('hex');
  if (existsSync(STAMP) && readFileSync(STAMP, 'utf8') === mark) return;
  console.log('Building …');
  const result = spawnSync('node', ['node_modules/@react-router/dev/bin.js', 'build'], {
    encoding: 'utf8',
    maxBuffer: 1 << 26,
    env: { ...process.env, NODE_ENV: 'production' },
  });
  if (result.status !== 0)
    throw new SetupError(
      `The interface could not be built:\n${(result.stderr + result.stdout).trim().split('\n').slice(-15).join('\n')}`,
    );
  writeFileSync(STAMP, mark);
}
