// Builds what threads run, so that one begins in a third of the time, and the worker itself, which then takes half the memory: whoever
// starts a process with pools says with KERAMION_THREADS where they lie. Without it they run from their sources. Always built anew: it takes less than to find out whether it has to be.
import { existsSync, mkdirSync, readdirSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import { readFile } from 'node:fs/promises';
import path from 'node:path';
import { pathToFileURL } from 'node:url';
import { build, type Plugin } from 'esbuild';
import { SetupError } from './trouble.ts';

/** Calls of the disk that wait at the same time: copies to several carriers, each with a flush under way, keep nobody else from theirs. */
export const DISK_CALLS = '16';

const ROOMS = ['disk', 'server'];

const entries = (): string[] =>
  ROOMS.flatMap((room) => readdirSync(room, { recursive: true }).map((name) => path.join(room, String(name)))).filter(
    (file) => file.endsWith('-thread.ts'),
  );

/** A module knows where its source lies, as if it ran from there: kinds of carriers are told apart by that. */
const whereItWas: Plugin = {
  name: 'where it was',
  setup({ onLoad }) {
    onLoad({ filter: /\.ts$/ }, async ({ path: file }) => {
      if (file.includes('node_modules')) return undefined;
      const text = await readFile(file, 'utf8');
      const here = JSON.stringify(pathToFileURL(file).href);
      return { contents: text.replaceAll('import.meta.url', here), loader: 'ts' };
    });
  },
};

/** Threads of what runs already may be reading it: what is the same stays, and nothing is ever half. */
function put(file: string, contents: Uint8Array): void {
  if (existsSync(file) && readFileSync(file).equals(contents)) return;
  mkdirSync(path.dirname(file), { recursive: true });
  const temporary = `${file}.${process.pid}`;
  writeFileSync(temporary, contents);
  renameSync(temporary, file);
}

/** Gives the folder in which they lie, inside the project, where packages are found: each where its source lies in the project, and names it for processes started from here. `also`: sources built with them. */
export async function buildThreads(
  outdir = path.resolve('var/threads'),
  also: readonly string[] = [],
): Promise<string> {
  try {
    const { outputFiles } = await build({
      entryPoints: ['disk/threads/built.ts', 'server/worker-process.ts', ...entries(), ...also],
      ...{ outdir, outbase: '.', outExtension: { '.js': '.mjs' } },
      ...{ bundle: true, splitting: true, packages: 'external', logLevel: 'silent' },
      ...{ platform: 'node', format: 'esm', target: 'node20', sourcemap: true },
      plugins: [whereItWas],
      write: false,
    });
    for (const { path: file, contents } of outputFiles) put(file, contents);
  } catch (error) {
    throw new SetupError(`What threads run could not be built: ${(error as Error).message.split('\n')[0]}`);
  }
  process.env.KERAMION_THREADS = outdir;
  return outdir;
}
