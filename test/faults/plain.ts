// The worker as plain JavaScript, so that a sweep of thousands of starts spends its time on faults and not on reading
// TypeScript: every file turned on its own, with the same names and folders.
import { mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { transformSync } from '@swc/core';

/** Names of modules, also of those that threads begin with. */
const OWN_MODULES = /(['"])((?:\.\.?\/|#)[^'"]+|[\w-]+-thread)\.ts\1/g;

/** Makes them anew, in a folder called `forWhom`, and gives the file that starts a worker. */
export function plainWorker(forWhom: string): string {
  const out = path.resolve('var/plain', forWhom);
  rmSync(out, { recursive: true, force: true });
  const put = (file: string, text: string) => {
    const place = path.join(out, file);
    mkdirSync(path.dirname(place), { recursive: true });
    writeFileSync(place, text);
  };
  const whole = JSON.parse(readFileSync('package.json', 'utf8')) as { imports: Record<string, string> };
  put('package.json', JSON.stringify({ type: 'module', imports: whole.imports }));
  const rooms = ['core', 'contract', 'disk', 'server'];
  const files = rooms.flatMap((room) =>
    readdirSync(room, { recursive: true }).map((name) => path.join(room, String(name))),
  );
  for (const file of files) {
    if (!file.endsWith('.ts') || file.endsWith('.test.ts')) continue;
    const { code } = transformSync(readFileSync(file, 'utf8'), {
      jsc: { parser: { syntax: 'typescript' }, target: 'es2022' },
    });
    put(file.replace(/\.ts$/, '.js'), code.replace(OWN_MODULES, '$1$2.js$1'));
  }
  const boot = readFileSync('disk/threads/boot.mjs', 'utf8');
  put(
    'disk/threads/boot.mjs',
    boot
      .replace(/^.*tsx.*\n/m, '')
      .replace(/^register.*\n/m, '')
      .replace('serve.ts', 'serve.js'),
  );
  return path.join(out, 'server/worker-process.js');
}
