// Where the browser's tests run: each half of them on a demo of its own, so that both may run at once.
import { readdirSync } from 'node:fs';
import path from 'node:path';

const half = process.env.KERAMION_E2E_HALF ?? '';

export const HOME = path.resolve(`var/e2e${half}`);
export const PORT = half === '' ? 4790 : 4790 + Number(half);

/** What takes about as long as all others together. */
const FIRST = ['archive', 'daily', 'figures', 'journey', 'reclaim', 'snapshots', 'take-in'].map(
  (name) => `${name}.spec.ts`,
);
const all = readdirSync(import.meta.dirname).filter((name) => name.endsWith('.spec.ts'));

/** The tests of this half; of both where none is said. */
export const TESTS = half === '' ? all : all.filter((name) => FIRST.includes(name) === (half === '1'));
