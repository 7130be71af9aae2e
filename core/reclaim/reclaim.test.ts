import fc from 'fast-check';
import { KINDS, type Level, PROJECT_STATES } from '../model.ts';
import { type Candidate, reach } from './goal.ts';
import { seriesOf, thinned, USUAL_THINNING } from './thin.ts';
import { liesIn } from '../paths.ts';
import { boxAround, boxFrom, bytesByAge, pointsOf, within } from './box.ts';
import { emptyTrees } from './empty.ts';
import { GROUPS, type WorthFacts, worthOf } from './worth.ts';

const facts: fc.Arbitrary<WorthFacts> = fc.record({
  kind: fc.constantFrom(...KINDS),
  projectState: fc.constantFrom(null, ...PROJECT_STATES),
  used: fc.boolean(),
  named: fc.boolean(),
  hasTimelines: fc.boolean(),
  isStale: fc.boolean(),
  hasSource: fc.boolean(),
  isThinned: fc.boolean(),
  isArchived: fc.boolean(),
  twin: fc.constantFrom('elsewhere' as const, 'here' as const, null),
  onSystemDrive: fc.boolean(),
});
const plain: WorthFacts = {
  kind: 'source',
  projectState: 'in work',
  used: false,
  named: false,
  hasTimelines: true,
  isStale: false,
  hasSource: false,
  isThinned: false,
  isArchived: false,
  twin: null,
  onSystemDrive: false,
};

test('what is used is never offered', () => {
  fc.assert(
    fc.property(facts, (file) => {
      expect(worthOf({ ...file, used: true, named: true })).toBeNull();
    }),
    { numRuns: 2000 },
  );
});

test('nothing is told as replaceable that is not', () => {
  fc.assert(
    fc.property(facts, (file) => {
      const worth = worthOf(file);
      if (worth === null) return;
      expect(GROUPS).toContain(worth.group);
      if (worth.level === 0) expect([file.kind, file.named]).toEqual(['cache', false]);
      if (worth.level === 1)
        expect((file.kind === 'render' && file.hasTimelines) || (file.kind === 'proxy' && file.hasSource)).toBe(true);
      if (worth.level === 2) expect(file.isArchived || file.twin === 'elsewhere').toBe(true);
      if (file.named) expect(worth.level).toBeGreaterThanOrEqual(2);
    }),
    { numRuns: 5000 },
  );
});

test.each([
  ['a render of a project with timelines', { kind: 'render' }, ['renders', 1]],
  ['a render nobody knows the timeline of', { kind: 'render', hasTimelines: false }, ['renders', 3]],
  ['a render that a document names', { kind: 'render', named: true }, ['unused media', 3]],
  ['a proxy with its source', { kind: 'proxy', hasSource: true }, ['proxies', 1]],
  ['a proxy without', { kind: 'proxy' }, ['proxies', 3]],
  ['media in a bin alone', { named: true }, ['unused media', 3]],
  ['media in a folder called cache', { kind: 'source', named: true, isArchived: true }, ['unused media', 2]],
  ['a delivery', { kind: 'delivery' }, null],
  [
    'a delivery of an archived project',
    { kind: 'delivery', projectState: 'archived', isArchived: true },
    ['left behind', 2],
  ],
  ['a document of a living project', { kind: 'document', isArchived: true }, null],
  ['an archived recording', { projectState: 'archived', isArchived: true }, ['left behind', 2]],
  ['what stayed out of the archive', { kind: 'other', projectState: 'archived' }, ['left behind', 3]],
  ['a backup that thinning takes', { kind: 'backup', isThinned: true }, ['old backups', 3]],
  ['one that it keeps', { kind: 'backup' }, null],
  ['nobody’s', { projectState: null, kind: 'other' }, ['nobody’s', 3]],
  ['a part of a system', { projectState: null, kind: 'other', onSystemDrive: true }, null],
  ['a recording left on one', { projectState: null, onSystemDrive: true }, ['nobody’s', 3]],
  ['a library', { kind: 'library', projectState: null }, null],
  ['the same twice', { named: true, twin: 'elsewhere' }, ['same twice', 2]],
  ['the same twice on one volume', { named: true, twin: 'here' }, ['same twice', 3]],
  ['the same twice on one volume, archived', { isArchived: true, twin: 'here' }, ['same twice', 2]],
  ['a backup that lies there once more', { kind: 'backup', twin: 'here' }, null],
] as const)('%s', (_what, given, expected) => {
  const worth = worthOf({ ...plain, ...given } as WorthFacts);
  expect(worth && [worth.group, worth.level]).toEqual(expected);
});

const HOUR = 3_600_000_000;

test('thinning keeps the newest, and one of each hour, day, week and month', () => {
  const hourly = Array.from({ length: 24 * 60 }, (_, i) => ({ id: i, modifiedUs: 2_000_000 * HOUR - i * HOUR }));
  const gone = thinned(hourly);
  const kept = hourly.filter(({ id }) => !gone.has(id));
  // The first of a week may be the first of a day as well.
  expect(kept.length).toBeLessThanOrEqual(24 + 13 + 8 + 3);
  expect(kept.slice(0, 24).map(({ id }) => id)).toEqual(Array.from({ length: 24 }, (_, i) => i));
  // How far back one can still go: the oldest of the last month.
  expect(kept.at(-1)!.id).toBeGreaterThan(24 * 53);
});

test('thinning never takes the newest, nor anything where there are few', () => {
  const backups = fc.uniqueArray(fc.record({ id: fc.nat(5000), modifiedUs: fc.nat(400 * 24).map((h) => h * HOUR) }), {
    selector: ({ id }) => id,
    maxLength: 300,
  });
  fc.assert(
    fc.property(backups, (all) => {
      const gone = thinned(all);
      expect(all.length - gone.size).toBeGreaterThanOrEqual(Math.min(all.length, USUAL_THINNING.newest));
      const newest = [...all].sort((a, b) => b.modifiedUs - a.modifiedUs || b.id - a.id)[0];
      if (newest) expect(gone.has(newest.id)).toBe(false);
      // What stays is thinned no further.
      expect(thinned(all.filter(({ id }) => !gone.has(id))).size).toBe(0);
    }),
  );
});

test.each([
  ['Night Ferry backup 2026-11-03 14.22.otio', 'Night Ferry (17).otio'],
  ['fog_autosave_001.otio', 'fog_autosave_112.otio'],
  ['fog.otio', 'fog copy 2.otio'],
])('%s and %s are of one series', (a, b) => expect(seriesOf(a)).toBe(seriesOf(b)));
test('other names are another series', () => {
  expect(seriesOf('fog 1.otio')).not.toBe(seriesOf('frost 1.otio'));
  expect(seriesOf('fog 1.otio')).not.toBe(seriesOf('fog 1.edl'));
});

const candidate: fc.Arbitrary<Candidate> = fc.record({
  key: fc.uuid(),
  volumeId: fc.constant(1),
  group: fc.constantFrom(...GROUPS),
  level: fc.constantFrom<Level>(0, 1, 2, 3),
  bytes: fc.integer({ min: 1, max: 1000 }),
  costSeconds: fc.nat(1000),
  day: fc.nat(20_000),
});

test('a goal is met where it can be, with nothing that is not needed, and lower levels first', () => {
  fc.assert(
    fc.property(
      fc.array(candidate, { maxLength: 60 }),
      fc.integer({ min: 1, max: 30_000 }),
      fc.constantFrom<Level>(0, 1, 2, 3),
      (all, wantedBytes, highest) => {
        const found = reach(all, { wantedBytes, highest });
        const chosen = all.filter(({ key }) => found.keys.includes(key));
        const open = all.filter(({ level }) => level <= highest);
        const sum = (list: readonly Candidate[]) => list.reduce((n, one) => n + one.bytes, 0);
        expect(found.bytes).toBe(sum(chosen));
        expect(found.isReached).toBe(sum(open) >= wantedBytes);
        expect(chosen.every(({ level }) => level <= highest)).toBe(true);
        if (!found.isReached) expect(chosen).toHaveLength(open.length);
        // None of it could be left out.
        else for (const one of chosen) expect(found.bytes - one.bytes).toBeLessThan(wantedBytes);
        // A higher level is touched only where all below it is not enough.
        const top = Math.max(-1, ...chosen.map(({ level }) => level));
        if (top > 0) expect(sum(open.filter(({ level }) => level < top))).toBeLessThan(wantedBytes);
        expect(found.beyondBytes).toBe(sum(all) - sum(open));
      },
    ),
    { numRuns: 1000 },
  );
});

test('empty folders are told once by their topmost; homes and what holds one stay', () => {
  const folder = (id: number, path: string) => ({ id, volumeId: 1, path, projectId: 0 });
  const empty = [folder(1, 'old'), folder(2, 'old/a'), folder(3, 'old/a/b'), folder(4, 'fog'), folder(5, 'fog/camera')];
  expect(emptyTrees(empty, [{ volumeId: 1, folder: 'fog/camera' }])).toMatchObject([{ path: 'old', folders: 3 }]);
  expect(emptyTrees(empty, [{ volumeId: 2, folder: 'old' }]).map((tree) => tree.path)).toEqual(['old', 'fog']);
  // Below a home an empty folder belongs to it.
  expect(emptyTrees([folder(6, 'home/day 1')], [{ volumeId: 1, folder: 'home' }])).toEqual([]);
});

test('every empty folder that is not wanted is in one tree, and no tree lies in another', () => {
  const segment = fc.constantFrom('a', 'b', 'c');
  const paths = fc.uniqueArray(fc.array(segment, { minLength: 1, maxLength: 4 }).map((parts) => parts.join('/')));
  fc.assert(
    fc.property(
      paths,
      fc.option(fc.array(segment, { minLength: 1, maxLength: 3 }), { nil: undefined }),
      (all, home) => {
        const empty = all.map((at, i) => ({ id: i + 1, volumeId: 1, path: at, projectId: 0 }));
        const folder = home?.join('/');
        const trees = emptyTrees(empty, folder ? [{ volumeId: 1, folder }] : []);
        const stays = (at: string) => folder !== undefined && (liesIn(folder, at) || liesIn(at, folder));
        expect(trees.reduce((sum, tree) => sum + tree.folders, 0)).toBe(all.filter((at) => !stays(at)).length);
        for (const tree of trees) expect(stays(tree.path)).toBe(false);
      },
    ),
  );
});

test('a box holds what lies in it, ends too; one around all holds all, and two corners make one whichever they are', () => {
  const candidate = fc.record({ day: fc.integer({ min: 0, max: 20_000 }), bytes: fc.integer({ min: 0, max: 1e12 }) });
  const corner = fc.record({ days: fc.integer({ min: 0, max: 20_000 }), bytes: fc.integer({ min: 0, max: 1e12 }) });
  fc.assert(
    fc.property(fc.array(candidate, { maxLength: 60 }), corner, corner, (all, a, b) => {
      const points = pointsOf(all, 20_000);
      const box = boxFrom(a, b);
      expect(box).toEqual(boxFrom(b, a));
      expect(within(points, box)).toEqual(
        all.flatMap(({ day, bytes }, i) =>
          20_000 - day >= box.leastDays &&
          20_000 - day <= box.mostDays &&
          bytes >= box.leastBytes &&
          bytes <= box.mostBytes
            ? [i]
            : [],
        ),
      );
      const around = boxAround(points);
      expect(within(points, { ...around, leastBytes: Math.min(around.leastBytes, 0) })).toHaveLength(all.length);
      const [any, old] = bytesByAge(points, [0, 10_000]);
      expect(any).toBe(all.reduce((sum, one) => sum + one.bytes, 0));
      expect(old).toBe(all.reduce((sum, one) => (one.day <= 10_000 ? sum + one.bytes : sum), 0));
    }),
  );
});

test('500 lives: thinned after every backup it is the very same as thinned once at the end, and every promised point is there', () => {
  const minutes = fc.array(fc.integer({ min: 1, max: 5_000 }), { minLength: 1, maxLength: 80 });
  const rules = fc.record({
    newest: fc.integer({ min: 1, max: 5 }),
    ...{ hours: fc.nat({ max: 30 }), days: fc.nat({ max: 20 }), weeks: fc.nat({ max: 8 }), months: fc.nat({ max: 4 }) },
  });
  fc.assert(
    fc.property(minutes, rules, (gaps, rule) => {
      let us = 1_790_000_000_000_000;
      const all = gaps.map((gap, id) => ({ id, modifiedUs: (us += gap * 60_000_000) }));
      let kept: typeof all = [];
      for (const one of all) {
        kept.push(one);
        const gone = thinned(kept, rule);
        kept = kept.filter(({ id }) => !gone.has(id));
      }
      const atOnce = thinned(all, rule);
      expect(kept.map(({ id }) => id)).toEqual(all.filter(({ id }) => !atOnce.has(id)).map(({ id }) => id));
      for (const [span, many] of [
        [3_600_000_000, rule.hours],
        [86_400_000_000, rule.days],
      ] as const) {
        const last = Math.floor(us / span);
        const slots = new Set(all.map(({ modifiedUs }) => Math.floor(modifiedUs / span)));
        for (const slot of slots)
          if (last - slot < many)
            expect(kept.some(({ modifiedUs }) => Math.floor(modifiedUs / span) === slot)).toBe(true);
      }
      expect(kept.slice(-rule.newest)).toEqual(all.slice(-rule.newest));
    }),
    { numRuns: 500 },
  );
});
