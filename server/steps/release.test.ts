// What a sealed archive lets go of: its own originals and what stayed out, by kind; nothing that it borrowed.
import { existsSync } from 'node:fs';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import type { ArchiveId, CarrierId, ProjectId, VolumeId } from '#core/model.ts';
import { size } from '#core/wording/amounts.ts';
import { otio, TestSite } from '#test/site.ts';
import { archiveRows } from '../archives/shelf.ts';
import { aside } from '../db/schema/aside.ts';
import { steps } from '../db/schema/plans.ts';
import { projects } from '../db/schema/projects.ts';
import { currentPlan, runPlan } from '../plan/plan.ts';
import { setState } from '../projects/projects.ts';
import { assess } from '../reclaim/assess.ts';
import { addArchive } from './archive.ts';
import { addRelease, releaseKey, releaseOf } from './release.ts';

let site: TestSite;
let volume: VolumeId;
let library: VolumeId;
const FOG = 1 as ProjectId;
const ONE = 1 as ArchiveId;

beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('media');
  library = await site.volume('library', 'library');
  for (const clip of ['a', 'b', 'spare']) site.put(`media/fog/rushes/${clip}.mov`, clip.repeat(5000));
  site.put('media/fog/cache/frames/1.frm', 'cache'.repeat(300));
  const wind = `file://${site.put('library/wind.mov', 'wind'.repeat(3000))}`;
  // Lent by another project, which goes on without a timeline that uses it.
  const lent = `file://${site.put('media/other/rushes/lent.mov', 'lent'.repeat(3000))}`;
  site.put('media/other/rushes/own.mov', 'own'.repeat(3000));
  site.put('media/other/other.otio', otio('Other', ['rushes/own.mov', 'rushes/lent.mov'], ['rushes/own.mov']));
  const clips = ['rushes/a.mov', 'rushes/b.mov', 'rushes/spare.mov', wind, lent];
  site.put('media/fog/fog.otio', otio('Fog', clips, ['rushes/a.mov', 'rushes/b.mov', wind, lent]));
  await site.read(library, volume);
  const [fog] = await site.db.select().from(projects).where(eq(projects.name, 'Fog'));
  expect(fog!.id).toBe(FOG);
  await setState(site.db, { projectId: FOG, state: 'delivered', since: new Date(), who: 'Mara', now: new Date() });
  const carrier: CarrierId = await site.carrier('kd-1');
  await addArchive(site.db, { projectId: FOG, carrierIds: [carrier], folder: 'fog_1', now: new Date() });
  await site.runPlan();
  expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
  await assess(site.db);
});
afterEach(() => site.close());

const offered = () => releaseOf(site.db, { archiveId: ONE, projectId: FOG });
const there = (at: string) => existsSync(path.join(site.root, at));

test('its own originals are offered, and what stayed out by kind with its level; what it borrowed is not', async () => {
  const { originals, parts } = await offered();
  // Two clips and the document.
  expect(originals.files).toBe(3);
  expect((await archiveRows(site.db))[0]!.originalsBytes).toBe(originals.bytes);
  expect(parts.map(({ group, level, files }) => ({ group, level, files }))).toEqual([
    { group: 'caches', level: 0, files: 1 },
    { group: 'unused media', level: 3, files: 1 },
  ]);
});

test('all that is ticked goes in one choice, each as its level says, and what was borrowed stays where it is', async () => {
  const { parts } = await offered();
  const added = await addRelease(site.db, {
    archiveId: ONE,
    ...{ originals: true, parts: parts.map(releaseKey), now: new Date() },
  });
  expect(added).toMatchObject({ files: 5, steps: 3 });
  // The only copy of something goes aside only with its size typed.
  await expect(site.runPlan()).rejects.toThrow(/size not typed/);
  const { planId, version } = await currentPlan(site.db);
  const asked = { planId: planId!, version, who: 'Mara', now: new Date(), typed: size(25_000) };
  expect(await runPlan(site.db, asked)).toMatchObject({ ok: true });
  await site.workOff();
  for (const at of ['rushes/a.mov', 'rushes/b.mov', 'fog.otio', 'cache/frames/1.frm', 'rushes/spare.mov'])
    expect({ at, there: there(`media/fog/${at}`) }).toEqual({ at, there: false });
  for (const at of ['library/wind.mov', 'media/other/rushes/lent.mov', 'media/other/rushes/own.mov'])
    expect({ at, there: there(at) }).toEqual({ at, there: true });
  // The only copy of something is set aside, not removed.
  const [lying] = await site.db.select().from(aside);
  expect(there(path.join('media', lying!.asidePath))).toBe(true);
  const [fog] = await site.db.select().from(projects).where(eq(projects.id, FOG));
  expect(fog!.state).toBe('archived');
});

test('what is not offered any more adds nothing at all', async () => {
  const { parts } = await offered();
  const ask = (keys: readonly string[], originals = true) =>
    addRelease(site.db, { archiveId: ONE, originals, parts: keys, now: new Date() });
  await expect(ask(['5-3'])).rejects.toThrow(/not offered any more/);
  await expect(ask([], false)).rejects.toThrow(/Nothing is ticked/);
  expect(await site.db.select().from(steps)).toHaveLength(1);
  await ask(parts.map(releaseKey));
  await expect(ask(parts.map(releaseKey))).rejects.toThrow(/Nothing was added/);
});
