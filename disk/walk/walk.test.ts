import { chmodSync, mkdirSync, mkdtempSync, rmSync, symlinkSync, utimesSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { DEFAULT_RULES } from '#core/kinds/kinds.ts';
import { stopFlag } from '../threads/serve.ts';
import type { FolderFound } from './protocol.ts';
import { walk, type WalkPool, walkPool } from './walk.ts';

let pool: WalkPool;
let root: string;
beforeAll(() => void (pool = walkPool()));
afterAll(() => pool.end());
beforeEach(() => void (root = mkdtempSync(path.join(os.tmpdir(), 'walk-'))));
afterEach(() => {
  chmodAll();
  rmSync(root, { recursive: true, force: true });
});
const chmodAll = () => {
  try {
    chmodSync(path.join(root, 'locked'), 0o755);
  } catch {
    return;
  }
};

interface Kept {
  ids: Map<string, number>;
  fingerprints: Map<string, string>;
}

/** Walks and keeps what a real sink would keep. */
async function read(kept: Kept, options: { exclude?: string[]; ruleMark?: string; largeFrom?: number } = {}) {
  const found = new Map<string, FolderFound>();
  await walk(
    pool,
    {
      root,
      volumeId: 7,
      duty: 'none',
      rules: DEFAULT_RULES,
      ruleMark: options.ruleMark ?? 'r1',
      exclude: options.exclude ?? [],
      largeFrom: options.largeFrom,
      stop: stopFlag(),
    },
    {
      enter: async (at) => {
        if (!kept.ids.has(at)) kept.ids.set(at, kept.ids.size + 1);
        return { folderId: kept.ids.get(at)!, projectId: null, known: kept.fingerprints.get(at) ?? null };
      },
      found: async (at, folder) => {
        found.set(at, folder);
        if (folder.state === 'new' || folder.state === 'changed') kept.fingerprints.set(at, folder.fingerprint);
      },
    },
  );
  return found;
}
const nothing = (): Kept => ({ ids: new Map(), fingerprints: new Map() });
const rowsOf = (folder: FolderFound | undefined) => (folder?.state === 'new' ? folder.rows.join('') : '');
const put = (name: string | Buffer, content = 'x') => {
  const place = typeof name === 'string' ? path.join(root, name) : Buffer.concat([Buffer.from(root + '/'), name]);
  if (typeof place === 'string') mkdirSync(path.dirname(place), { recursive: true });
  writeFileSync(place, content);
};

test('a first walk gives every file as a row with its kind, and a second one finds every folder the same', async () => {
  put('rushes/A001.mov', 'moving');
  put('cache/peaks/a.pk', '12');
  const kept = nothing();
  const first = await read(kept);
  expect([...first.keys()].sort()).toEqual(['', 'cache', 'cache/peaks', 'rushes']);
  expect(rowsOf(first.get('rushes'))).toMatch(/^7\t\d+\tA001\.mov\t\\N\t6\t\d+\t\d+\t\d+\tsource\t\\N\n$/);
  expect(rowsOf(first.get('cache/peaks'))).toContain('\tcache\t');
  const second = await read(kept);
  expect([...second.values()].map((f) => f.state)).toEqual(['same', 'same', 'same', 'same']);
});

test('only the folder that changed comes back, column by column', async () => {
  put('a/one.mov');
  put('b/two.mov');
  const kept = nothing();
  await read(kept);
  put('b/two.mov', 'longer');
  const again = await read(kept);
  expect(again.get('a')!.state).toBe('same');
  const changed = again.get('b')!;
  expect(changed.state === 'changed' && [...changed.columns.sizes]).toEqual([6]);
});

test('a file whose time alone changed counts as changed', async () => {
  put('a/one.mov');
  const kept = nothing();
  await read(kept);
  utimesSync(path.join(root, 'a/one.mov'), 1000, 1000.123456);
  const changed = (await read(kept)).get('a')!;
  expect(changed.state === 'changed' && [...changed.columns.modifiedUs]).toEqual([1000123456]);
});

test('other rules make every folder count as changed', async () => {
  put('a/one.mov');
  const kept = nothing();
  await read(kept);
  expect((await read(kept, { ruleMark: 'r2' })).get('a')!.state).toBe('changed');
});

test('odd names arrive whole: line breaks, tabs, 255 bytes, letters beyond ASCII', async () => {
  put('x/line\nbreak\tand\\slash');
  put(`x/${'é'.repeat(127)}`);
  const rows = rowsOf((await read(nothing())).get('x'));
  expect(rows).toContain('line\\nbreak\\tand\\\\slash');
  expect(rows).toContain('é'.repeat(127));
});

test('a name that is not UTF-8 keeps its bytes and is told', async () => {
  put(Buffer.from([0x63, 0xe9, 0x2e, 0x6d, 0x6f, 0x76]));
  const top = (await read(nothing())).get('')!;
  expect(top.notices.map((n) => n.code)).toEqual(['name not UTF-8']);
  expect(rowsOf(top)).toContain('c\\\\xE9.mov\t63e92e6d6f76\t');
});

test('links are told and not followed; our own folder and other volumes are passed over', async () => {
  put('.keramion/identity.json');
  put('other/secret.mov');
  symlinkSync('/etc', path.join(root, 'out'));
  const found = await read(nothing(), { exclude: [path.join(root, 'other')] });
  expect([...found.keys()]).toEqual(['']);
  expect(found.get('')!.notices.map((n) => [n.path, n.code])).toEqual([['out', 'link']]);
});

test('a path of 4,000 bytes is read to its end, and one longer than the system takes is told', async () => {
  const segment = 'd'.repeat(190);
  let depth = 0;
  let at = root;
  // Below 4,096 with its closing NUL, whatever the temporary folder is called.
  while (Buffer.byteLength(at) + 1 + segment.length + 20 < 4090) {
    at = `${at}/${segment}`;
    depth++;
  }
  mkdirSync(at, { recursive: true });
  writeFileSync(`${at}/end.mov`, 'x');
  const found = await read(nothing());
  const deepest = Array.from({ length: depth }, () => segment).join('/');
  expect(deepest.length).toBeGreaterThan(3700);
  expect(rowsOf(found.get(deepest))).toContain('end.mov');
});

test('a folder that is removed while its volume is read is told as vanished, and the rest is read', async () => {
  for (let i = 0; i < 200; i++) put(`many/${i}/a.mov`);
  const kept = nothing();
  let removed = false;
  const states: string[] = [];
  await walk(
    pool,
    { root, volumeId: 7, duty: 'none', rules: DEFAULT_RULES, ruleMark: 'r', exclude: [], stop: stopFlag() },
    {
      enter: async (at) => {
        if (!kept.ids.has(at)) kept.ids.set(at, kept.ids.size + 1);
        if (at.startsWith('many/') && !removed) {
          removed = true;
          rmSync(path.join(root, 'many/150'), { recursive: true });
        }
        return { folderId: kept.ids.get(at)!, projectId: null, known: null };
      },
      found: async (at, folder) =>
        void states.push(`${at} ${folder.state === 'unreadable' ? folder.code : folder.state}`),
    },
  );
  expect(states).toContain('many/150 vanished');
  expect(states.filter((state) => state.endsWith(' new'))).toHaveLength(201);
});

test('files from before 1970 and from the future are read as they are', async () => {
  put('old.mov');
  utimesSync(path.join(root, 'old.mov'), new Date(-86_400_000 * 3), new Date(-86_400_000 * 3));
  put('later.mov');
  utimesSync(path.join(root, 'later.mov'), 4e9, 4e9);
  const found = (await read(nothing())).get('');
  expect(found?.state === 'new' && found.holdings.map((h) => h.day).sort((a, b) => a - b)).toEqual([-3, 46_296]);
});

test('a top that is not there is an error, not an empty volume', async () => {
  rmSync(root, { recursive: true });
  await expect(read(nothing())).rejects.toMatchObject({ code: 'ENOENT' });
});

test('a large folder is parted between the threads, and what is found is the same', async () => {
  mkdirSync(path.join(root, 'scan/sub'), { recursive: true });
  const put = (i: number, text = 'x'.repeat(i % 7)) => {
    const place = path.join(root, 'scan', `frame ${String(i).padStart(5, '0')}${i % 3 === 0 ? '.wav' : '.dpx'}`);
    writeFileSync(place, text);
    utimesSync(place, 1_700_000_000 + i * 40_000, 1_700_000_000 + i * 40_000);
  };
  for (let i = 0; i < 9_000; i++) put(i);
  symlinkSync('/tmp', path.join(root, 'scan/link'));
  const plain = await read(nothing(), { largeFrom: 1e9 });
  const kept = nothing();
  const parted = await read(kept, { largeFrom: 5_000 });
  const sorted = (folder: FolderFound | undefined) =>
    folder?.state === 'new' && {
      ...folder,
      fingerprint: '',
      rows: rowsOf(folder),
      holdings: [...folder.holdings].sort((a, b) => a.kind - b.kind || a.day - b.day),
    };
  expect(sorted(parted.get('scan'))).toEqual(sorted(plain.get('scan')));
  expect(parted.get('scan')).toMatchObject({ files: 9_000, subFolders: [{ name: 'sub' }], entries: 9_000 });
  expect(parted.get('scan')!.notices).toEqual([{ path: 'scan/link', code: 'link', detail: 'links are not followed' }]);
  expect((await read(kept, { largeFrom: 5_000 })).get('scan')!.state).toBe('same');
  put(4_567, 'longer than before');
  const changed = (await read(kept, { largeFrom: 5_000 })).get('scan')!;
  expect(changed.state).toBe('changed');
  if (changed.state !== 'changed') return;
  const at = changed.columns.names.findIndex((name) => name.startsWith('frame 04567'));
  expect(changed.columns.sizes[at]).toBe('longer than before'.length);
  expect(changed.columns.names).toHaveLength(9_000);
  expect(changed.columns.kinds).toHaveLength(9_000);
  expect((await read(kept, { largeFrom: 5_000 })).get('scan')!.state).toBe('same');
});
