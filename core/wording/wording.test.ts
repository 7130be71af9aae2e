import fc from 'fast-check';
import type { ArchiveId, CarrierId, ProjectId, VolumeId } from '../model.ts';
import { byLevel, effects, type StepSummary, totals } from '../plan/plan.ts';
import { beforeCut, cutDay } from '../reclaim/cuts.ts';
import { ago, counted, duration, inWords, listed, percentFull, size } from './amounts.ts';
import { type DecisionFacts, decisions } from './decisions.ts';
import {
  ledgerSentence,
  projectsSentence,
  reclaimSentence,
  shelfSentence,
  siteSentence,
  spaceSentence,
} from './lenses.ts';
import { findingWords } from './findings.ts';
import { planSentence, planTroubleWords, stepTitle } from './plan.ts';
import { ownersOf, slugOf } from '../homes/owners.ts';

const DAY = 86_400_000;

test('sizes have three digits and decimal units', () => {
  expect([0, 999, 1000, 1234, 12_345, 999_499, 999_500, 1e12, 2.31e12, -5e9].map(size)).toEqual([
    '0 B',
    '999 B',
    '1.00 kB',
    '1.23 kB',
    '12.3 kB',
    '999 kB',
    '1.00 MB',
    '1.00 TB',
    '2.31 TB',
    '−5.00 GB',
  ]);
  fc.assert(
    fc.property(fc.integer({ min: 1000, max: 2 ** 50 }), (n) =>
      expect(size(n)).toMatch(/^(\d\.\d\d|\d\d\.\d|\d\d\d) [kMGTPE]B$/),
    ),
  );
});

test('ages and spans are words', () => {
  expect(
    [0, 59_000, 60_000, 3 * 3_600_000, 49 * 3_600_000, 41 * DAY, 800 * DAY].map((ms) => ago(1e12 - ms, 1e12)),
  ).toEqual(['just now', 'just now', '1 minute ago', '3 hours ago', '2 days ago', '41 days ago', '2 years ago']);
  expect([0, 9, 89, 90, 840, 7800, 3600 * 60].map(duration)).toEqual([
    '0 s',
    '9 s',
    '89 s',
    '2 min',
    '14 min',
    '2 h 10 min',
    '2 d 12 h',
  ]);
});

test('counts, lists and shares', () => {
  expect([counted(0, 'file'), counted(1, 'file'), counted(1200, 'copy', 'copies'), inWords(3), inWords(13)]).toEqual([
    'no files',
    '1 file',
    '1,200 copies',
    'three',
    '13',
  ]);
  expect([listed([]), listed(['a']), listed(['a', 'b', 'c'])]).toEqual(['', 'a', 'a, b and c']);
  expect([percentFull(999, 1000), percentFull(1000, 1000), percentFull(1, 0)]).toEqual([99, 100, 0]);
});

test('the site sentence says the fullest, what is away, what can go, or that nothing needs anybody', () => {
  const volume = { name: 'loft-1 scratch', usedBytes: 96, capacityBytes: 100, reachable: true };
  expect(siteSentence({ volumes: [], cacheBytes: 0, read: false, decisions: 0 })).toBe('No volume is registered yet.');
  expect(siteSentence({ volumes: [volume], cacheBytes: 6.8e12, read: true, decisions: 0 })).toBe(
    'loft-1 scratch is 96 % full. 6.80 TB across the site can go and be rebuilt later.',
  );
  expect(
    siteSentence({
      volumes: [{ ...volume, usedBytes: 10, reachable: false }],
      cacheBytes: 0,
      read: true,
      decisions: 0,
    }),
  ).toBe('loft-1 scratch cannot be reached.');
  expect(siteSentence({ volumes: [{ ...volume, usedBytes: 10 }], cacheBytes: 0, read: true, decisions: 0 })).toBe(
    'Nothing needs you today.',
  );
});

test('other lenses say what there is', () => {
  expect(projectsSentence([{ name: 'Fog', state: 'delivered', bytes: 1e12, missing: 1 }])).toBe(
    'One project. Fog is delivered and still holds 1.00 TB. 1 piece of media cannot be found.',
  );
  expect(spaceSentence({ where: 'the site', totalBytes: 10, yearOldBytes: 5, files: 3 })).toBe(
    '50 % of the site was last changed over a year ago.',
  );
  expect(reclaimSentence({ chosenBytes: 0, allBytes: 0, chosenFiles: 0 })).toBe(
    'No caches were found. There is nothing to reclaim here.',
  );
  const shelf = { archives: 1, carriers: 2, holding: 2, damaged: 0, oldestReadBackMs: 0 };
  expect(shelfSentence({ ...shelf, holding: 1 }, 3 * DAY)).toContain('One archive on one of two carriers.');
  expect(shelfSentence(shelf, 3 * DAY)).toBe(
    'One archive on two carriers. Every copy was read back whole, the earliest 3 days ago.',
  );
  expect(ledgerSentence({ receipts: 3, removedBytes: 1e9, archivedBytes: 2e9, broken: 0 })).toBe(
    '1.00 GB removed and 2.00 GB archived, in 3 receipts.',
  );
  expect(ledgerSentence({ receipts: 3, removedBytes: 0, archivedBytes: 0, broken: 1 })).toContain(
    'changed from outside',
  );
});

const facts = (
  over: Partial<DecisionFacts['volumes'][number]>,
  project: Partial<DecisionFacts['projects'][number]> = {},
): DecisionFacts => ({
  nowMs: 100 * DAY,
  volumes: [
    {
      volumeId: 1 as VolumeId,
      name: 'scratch',
      duty: 'renders',
      state: 'reachable',
      capacityBytes: 100e9,
      usedBytes: 10e9,
      systemDrive: false,
      shared: false,
      readOnly: false,
      byKind: [],
      seenMs: 99 * DAY,
      readMs: 100 * DAY,
      ...over,
    },
  ],
  projects: [
    {
      projectId: 1 as ProjectId,
      name: 'Fog',
      state: 'in work',
      sinceMs: 59 * DAY,
      bytes: 1e9,
      missing: 0,
      archived: false,
      ...project,
    },
  ],
  brokenDocuments: [],
  strays: [],
  ownerless: [],
  homeTroubles: [],
});

test('what lies on a disk that is not for it, belongs to nobody, or has a home nobody can write to, is told once', () => {
  const all = decisions({
    ...facts({
      shared: true,
      duty: 'source',
      byKind: [
        { kind: 'cache', bytes: 3e9 },
        { kind: 'render', bytes: 4e9 },
      ],
    }),
    ownerless: [{ volumeId: 1 as VolumeId, volume: 'scratch', bytes: 5e9, files: 3 }],
    homeTroubles: [
      { projectId: 1 as ProjectId, project: 'Fog', kind: 'backup', volume: 'Carry 07', why: 'cannot be reached' },
    ],
  });
  expect(all.map((d) => d.what)).toEqual([
    'Fog has its backup at home on Carry 07, which cannot be reached',
    'Caches on scratch, a shared store',
    'Renders on scratch, a shared store',
    '5.00 GB on scratch belong to no project',
  ]);
  expect(all[3]!.action).toEqual({ go: 'space', volumeId: 1, project: 0, words: 'Show files' });
  // A project's stray of that kind says it already.
  const stray = {
    projectId: 1 as ProjectId,
    project: 'Fog',
    state: 'in work',
    kind: 'render' as const,
    volume: 'scratch',
    bytes: 4e9,
  };
  expect(
    decisions({ ...facts({ duty: 'source', byKind: [{ kind: 'render', bytes: 4e9 }] }), strays: [stray] }).map(
      (d) => d.what,
    ),
  ).toEqual(['Fog has strayed to scratch']);
});

test('decisions: what hurts soonest comes first, each with its action; where all is well there are none', () => {
  expect(decisions(facts({}))).toEqual([]);
  const list = decisions(
    facts(
      {
        usedBytes: 97e9,
        systemDrive: true,
        byKind: [
          { kind: 'cache', bytes: 20e9 },
          { kind: 'source', bytes: 2e9 },
        ],
      },
      { state: 'delivered', missing: 2 },
    ),
  );
  expect(list.map((d) => [d.weight, d.what, d.action?.words])).toEqual([
    ['loss', 'scratch is 97 % full', 'Free 20 GB'],
    ['caution', 'Media on scratch, a system drive', 'Show files'],
    ['caution', 'Fog was delivered 41 days ago', 'Start archive'],
    ['caution', '2 pieces of media of Fog cannot be found', 'Find them'],
  ]);
  const stray = {
    projectId: 1 as ProjectId,
    project: 'Fog',
    state: 'in work',
    kind: 'source' as const,
    volume: 'system',
    bytes: 6e9,
  };
  expect(
    decisions({ ...facts({}), strays: [stray, { ...stray, bytes: 10 }, { ...stray, state: 'delivered' }] }),
  ).toMatchObject([
    { weight: 'caution', what: 'Fog has strayed to system', detail: '6.00 GB of its source lies outside its home' },
  ]);
  expect(decisions(facts({ state: 'swapped' }))[0]).toMatchObject({
    weight: 'loss',
    what: 'Another disk is mounted where scratch belongs',
  });
  expect(decisions(facts({ readMs: null }))[0]).toMatchObject({ what: 'scratch was never read' });
  expect(decisions(facts({ readMs: 90 * DAY }))[0]).toMatchObject({ what: 'scratch was last read 10 days ago' });
});

const caches: StepSummary = {
  stepId: 1,
  what: { kind: 'remove caches', level: 0, cutDay: 20_000 },
  title: '',
  files: 3,
  bytes: 30,
  onVolumes: [{ volumeId: 1 as VolumeId, files: 3, bytes: 30 }],
  jobId: null,
};

test('a plan says what goes, what is written, and what each volume holds after it', () => {
  expect(planSentence([])).toBe('The plan is empty.');
  expect(planSentence([caches])).toBe('30 B will go, in one step. Nothing in it is irreplaceable.');
  expect(totals([caches])).toEqual({
    steps: 1,
    freedBytes: 30,
    asideBytes: 0,
    writtenBytes: 0,
    movedBytes: 0,
    files: 3,
  });
  expect(byLevel([caches])).toEqual({ 0: 30, 1: 0, 2: 0, 3: 0 });
  const volumes = [
    { volumeId: 1 as VolumeId, name: 'a', capacityBytes: 100, usedBytes: 20 },
    { volumeId: 2 as VolumeId, name: 'b', capacityBytes: 100, usedBytes: 20 },
  ];
  expect(effects([caches], volumes)).toMatchObject([{ name: 'a', beforeBytes: 20, afterBytes: 0 }]);
});

test('every finding, trouble and step has a whole sentence', () => {
  const of = (code: string, step: string, facts: Record<string, string | number | null>) =>
    findingWords({ code, weight: 'stop', stepId: 1, step, facts }, 0);
  const said = [
    of('volume unreachable', 'remove caches', { volume: 'a', lastSeenMs: null }),
    of('carrier too small', 'archive', { carrier: 'KD-1', neededBytes: 2e9, freeBytes: 1e9 }),
    of('items differ', 'remove caches', { reason: 'changed', files: 2, bytes: 5, example: 'x' }),
    of('media missing', 'archive', { project: 'Fog', missing: 1, total: 4 }),
    of('carrier too small', 'archive', { carrier: 'KD-1 and KD-2', together: 1, neededBytes: 2e9, freeBytes: 1e9 }),
  ];
  expect(said[1]).toEqual({
    what: 'KD-1 is too small',
    detail: '2.00 GB is needed and 1.00 GB is free. Choose another carrier.',
  });
  expect(said.at(-1)).toEqual({
    what: 'KD-1 and KD-2 together are too small',
    detail: '2.00 GB is needed and 1.00 GB is free on all of them. Choose one more carrier.',
  });
  expect(said[2]!.what).toBe('2 files left out: it changed after it was chosen');
  expect(said[3]!.what).toBe('1 piece of media of Fog is missing');
  expect(planTroubleWords({ code: 'already running', byWhom: 'Mara', planId: 1 as never })).toContain(
    'already run by Mara',
  );
  expect(stepTitle(caches.what, {})).toBe('Remove caches last changed before 4 Oct 2024');
});

test('what a check found, and copies that are damaged, wait for somebody', () => {
  const list = decisions({
    ...facts({}),
    check: { findings: 2, example: 'volume_sums: off by 1', atMs: 0 },
    damagedCopies: [{ archiveId: 7 as ArchiveId, archive: 'Fog', carrier: 'KD-1', others: 1 }],
  });
  expect(list.map((d) => [d.weight, d.what])).toEqual([
    ['loss', 'The copy of Fog on KD-1 is damaged'],
    ['caution', 'The last check found 2 things that differ'],
  ]);
  expect(list[0]!.detail).toBe('1 other copy of it is good. Repair it from there');
});

test('a carrier that is late or old, and a copy that is due to be read, wait with what to do', () => {
  const empty = { volumes: [], projects: [], strays: [], ownerless: [], homeTroubles: [], brokenDocuments: [] };
  const DAY = 86_400_000;
  const list = decisions({
    ...empty,
    nowMs: 100 * DAY,
    carriers: [
      { carrierId: 3 as CarrierId, name: 'KD-3', late: { to: 'Ida', dueMs: 97 * DAY }, years: null },
      { carrierId: 4 as CarrierId, name: 'KD-4', late: null, years: 6 },
    ],
    waiting: [{ title: 'Restore Fog', carrierId: 4 as CarrierId, carrier: 'KD-4', where: 'lent to Ida' }],
    dueReadBacks: [{ archiveId: 7 as ArchiveId, archive: 'Fog', carrier: 'KD-4', place: 'bank', readBackMs: null }],
  });
  expect(list.map((d) => [d.weight, d.what])).toEqual([
    ['caution', 'KD-3 is lent to Ida and was due back 3 days ago'],
    ['caution', 'KD-4 is in use for 6 years'],
    ['caution', 'Restore Fog waits for KD-4'],
    ['plain', 'The copy of Fog on KD-4 is due to be read back'],
  ]);
  expect(list[3]!.detail).toBe('It was never read back. Connect KD-4 (bank), and it is read at night');
  expect(new Set(list.map((d) => d.key)).size).toBe(4);
});

test('what was set aside long ago waits for somebody, what was yesterday does not', () => {
  const empty = { volumes: [], projects: [], strays: [], ownerless: [], homeTroubles: [], brokenDocuments: [] };
  const DAY = 86_400_000;
  const at = (days: number, files = 2) =>
    decisions({
      ...empty,
      nowMs: 100 * DAY,
      aside: { files, bytes: 5e9, oldestMs: files > 0 ? (100 - days) * DAY : null },
    });
  expect([at(1), at(29), at(90, 0)]).toEqual([[], [], []]);
  expect(at(31)).toMatchObject([
    {
      what: expect.stringMatching(/^5\.00.GB is set aside, the oldest for 31 days$/) as string,
      action: { go: 'aside' },
    },
  ]);
});

test('a cut takes exactly the whole days that are old enough', () => {
  const now = 20_000 * DAY + 5 * 3_600_000;
  expect(cutDay(now, 30)).toBe(19_970);
  expect(beforeCut(19_969 * DAY * 1000 + 86_399_999_999, 19_970)).toBe(true);
  expect(beforeCut(19_970 * DAY * 1000, 19_970)).toBe(false);
  expect(beforeCut(now * 1000, cutDay(now, 0))).toBe(true);
});

test('the nearest claim owns a folder, and titles compare by their words', () => {
  const claim = (projectId: number, folder: string) => ({
    projectId: projectId as ProjectId,
    volumeId: 1 as VolumeId,
    folder,
  });
  const owner = ownersOf(
    [claim(1, 'a'), claim(2, 'a/b/c'), { ...claim(3, 'x'), volumeId: 2 as VolumeId }],
    1 as VolumeId,
  );
  expect(['a', 'a/b', 'a/b/c/d', 'ab', '', 'x'].map(owner)).toEqual([1, 1, 2, null, null, null]);
  expect([slugOf('Night Ferry'), slugOf('  night_ferry!'), slugOf('Übergabe 2')]).toEqual([
    'night-ferry',
    'night-ferry',
    'übergabe-2',
  ]);
});

describe('sentences on none, one, many and long names', () => {
  const long = 'The very long name of a documentary about all lighthouses of the northern coast, second season';
  const project = (name: string, bytes: number) => ({ name, state: 'in work', bytes, missing: 0 });

  test('a name is written as it is, and several hold what one holds', () => {
    const sums = { totalBytes: 10e9, yearOldBytes: 0, files: 3 };
    expect(spaceSentence({ where: 'loft scratch', ...sums })).toBe('loft scratch holds 10.0 GB in 3 files.');
    expect(spaceSentence({ where: 'two volumes', isMany: true, ...sums })).toBe('Two volumes hold 10.0 GB in 3 files.');
    expect(spaceSentence({ where: 'the site', ...sums, files: 1 })).toBe('The site holds 10.0 GB in 1 file.');
    expect(spaceSentence({ where: long, ...sums, totalBytes: 0, files: 0 })).toBe(
      `${long} holds nothing that has been read.`,
    );
  });

  test('projects on chosen volumes', () => {
    expect(projectsSentence([], ['loft scratch'])).toBe('No project has files on loft scratch.');
    expect(projectsSentence([project(long, 5e9)], ['loft scratch'])).toBe('One project has 5.00 GB on loft scratch.');
    expect(projectsSentence([project('a', 5e9), project('b', 1e9)], ['one', 'two'])).toBe(
      'Two projects have 6.00 GB on one and two.',
    );
  });

  test('nothing needs anybody only where nothing waits below', () => {
    const facts = {
      volumes: [{ name: 'a', usedBytes: 1, capacityBytes: 100, reachable: true }],
      cacheBytes: 0,
      read: true,
    };
    expect(siteSentence({ ...facts, decisions: 0 })).toBe('Nothing needs you today.');
    expect(siteSentence({ ...facts, decisions: 1 })).toBe('One decision waits for you.');
    expect(siteSentence({ ...facts, decisions: 3 })).toBe('Three decisions wait for you.');
  });

  test('what is chosen of the caches says of how much', () => {
    expect(reclaimSentence({ chosenBytes: 113e9, allBytes: 141e9, chosenFiles: 5 })).toBe(
      '113 GB of 141 GB of caches chosen. Nothing in it is irreplaceable.',
    );
    expect(reclaimSentence({ chosenBytes: 141e9, allBytes: 141e9, chosenFiles: 5 })).toBe(
      '141 GB chosen. Nothing in it is irreplaceable.',
    );
  });
});
