// Facts that are kept while an archive is shaped: the same as when they are asked anew, and not kept once anything changed.
import fc from 'fast-check';
import { type ArchiveScope, LAYOUTS, LEFT_OUT, USUAL_SCOPE } from '#core/archive/selection.ts';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { otio, TestSite } from '#test/site.ts';
import { jobs } from '../db/schema/jobs.ts';
import { setState } from '../projects/projects.ts';
import { askToRead } from '../site/work.ts';
import { Facts, FactsOfProjects } from './facts.ts';
import { projectSelection } from './selection.ts';

let site: TestSite;
let media: VolumeId;
const FOG = 1 as ProjectId;

beforeEach(async () => {
  site = await TestSite.open();
  media = await site.volume('media', 'source', 1e6);
  for (const name of ['a.mov', 'b.mov', 'c.mov', 'unused.mov'])
    site.put(`media/fog/rushes/${name}`, Buffer.alloc(4000));
  site.put('media/fog/rushes/a.xml', 'beside it');
  site.put('media/fog/renders/r.mov', Buffer.alloc(500));
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/a.mov', 'rushes/b.mov'], ['rushes/a.mov', 'rushes/lost.mov']));
  site.put('media/fog/second.otio', otio('Second', ['rushes/c.mov'], ['rushes/c.mov', 'rushes/b.mov']));
  await site.read(media);
});
afterEach(() => site.close());

const scopes: fc.Arbitrary<ArchiveScope> = fc.record({
  parts: fc.subarray([...LEFT_OUT]),
  versions: fc.constantFrom('all', 'newest'),
  handles: fc.constantFrom(null, { value: 1, unit: 'seconds' as const, gapSeconds: 2 }),
  timelines: fc.subarray(['Fog', 'Second']),
  bins: fc.subarray(['Fog']),
  files: fc.subarray([1, 2, 3]),
  layout: fc.constantFrom(...LAYOUTS),
  names: fc.constantFrom('{file}', '{clip}'),
  rest: fc.constantFrom('stays', 'leaves'),
  encode: fc.constantFrom({}, { used: 'viewing' as const }),
  ...{ goOn: fc.constant(true), pack: fc.constant('folder'), originals: fc.boolean() },
});

test('whatever was asked for before, an archive holds what it does when everything is asked anew', async () => {
  const facts = new Facts();
  await fc.assert(
    fc.asyncProperty(scopes, async (scope) => {
      const kept = await projectSelection(site.db, FOG, scope, { facts });
      expect(kept).toEqual(await projectSelection(site.db, FOG, scope));
    }),
    { numRuns: 60 },
  );
});

test('the same is asked once; what failed, and what was not there, is told apart', async () => {
  const facts = new Facts();
  const asked: number[][] = [];
  const ask = (ids: number[]) => {
    asked.push(ids);
    return Promise.resolve(new Map(ids.filter((id) => id !== 3).map((id) => [id, `file ${id}`])));
  };
  expect([...(await facts.byId('files', [2, 1, 3], ask)).keys()]).toEqual([2, 1]);
  expect([...(await facts.byId('files', [3, 4, 2], ask)).values()]).toEqual(['file 4', 'file 2']);
  expect(asked).toEqual([[2, 1, 3], [4]]);
  await expect(facts.of('sums', () => Promise.reject(new Error('away')))).rejects.toThrow('away');
  expect(await facts.of('sums', () => Promise.resolve(1))).toBe(1);
  expect(await facts.of('sums', () => Promise.resolve(2))).toBe(1);
});

test('they are kept while nothing changes, and not once somebody did something or work began or ended', async () => {
  let now = 1e6;
  const kept = new FactsOfProjects(() => now);
  const first = await kept.of(site.db, FOG);
  now += 50_000;
  expect(await kept.of(site.db, FOG)).toBe(first);
  now += 10_000;
  const second = await kept.of(site.db, FOG);
  expect(second).not.toBe(first);
  const at = new Date();
  await setState(site.db, { projectId: FOG, state: 'delivered', since: at, who: 'Ada', now: at });
  const third = await kept.of(site.db, FOG);
  expect(third).not.toBe(second);
  site.put('media/fog/rushes/new.mov', Buffer.alloc(100));
  const { totalBytes } = await projectSelection(site.db, FOG, USUAL_SCOPE, { facts: third });
  await askToRead(site.db, [media], { who: 'Ada', now: new Date() });
  expect(await kept.of(site.db, FOG)).not.toBe(third);
  await site.db.update(jobs).set({ state: 'running' });
  const working = await kept.of(site.db, FOG);
  expect(await kept.of(site.db, FOG)).toBe(working);
  now += 2_000;
  expect(await kept.of(site.db, FOG)).not.toBe(working);
  await site.db.update(jobs).set({ state: 'queued' });
  const waiting = await kept.of(site.db, FOG);
  await site.workOff();
  const fourth = await kept.of(site.db, FOG);
  expect(fourth).not.toBe(waiting);
  const after = await projectSelection(site.db, FOG, USUAL_SCOPE, { facts: fourth });
  expect(after.totalBytes).toBe(totalBytes + 100);
});

test('of many projects those that were shaped last', async () => {
  const kept = new FactsOfProjects(() => 1e6);
  const all = [1, 2, 3, 4, 5].map((id) => id as ProjectId);
  const facts = [];
  for (const id of all) facts.push(await kept.of(site.db, id));
  expect(await kept.of(site.db, all[4]!)).toBe(facts[4]);
  expect(await kept.of(site.db, all[0]!)).not.toBe(facts[0]);
});
