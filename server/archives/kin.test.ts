// A catalogue that was lost, and archives of ours that belong together: nights that build on one another, and one that lies on several
// carriers. Taken in one by one, in any order, each is in the end all that it was, and is brought back whole.
import { existsSync, readdirSync, readFileSync } from 'node:fs';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import fc from 'fast-check';
import { USUAL_SCOPE } from '#core/archive/selection.ts';
import type { ArchiveId, CarrierId, ProjectId } from '#core/model.ts';
import { findingWords } from '#core/wording/findings.ts';
import { otio, TestSite } from '#test/site.ts';
import { archiveCopies, archiveFiles, archives, awaitedFiles } from '../db/schema/archives.ts';
import { jobs } from '../db/schema/jobs.ts';
import { receipts } from '../db/schema/receipts.ts';
import { currentPlan, findingsOf } from '../plan/plan.ts';
import { addArchive } from '../steps/archive.ts';
import { addRestore } from '../steps/restore.ts';
import { addCarrier } from '../stores/stores.ts';
import { timelinesIn } from './contents.ts';
import { letGo } from './keeping.ts';
import { askToReadBackAll } from './read-back.ts';
import { askToTakeIn } from './take-in.ts';

/** The house whose catalogue is lost, and the one that finds its carriers. */
let before: TestSite;
let site: TestSite;
afterEach(async () => {
  await before.close();
  await site.close();
});

const FOG = 1 as ProjectId;
const clipsOf = (night: number) => ['a', 'b', 'c'].slice(0, night);
const contentOf = (clip: string) => Buffer.alloc(30_000 + clip.charCodeAt(0), clip);

async function write(clips: readonly string[], carrierIds: CarrierId[], folder: string, baseId: ArchiveId | null) {
  for (const clip of clips)
    if (!existsSync(path.join(before.root, `media/fog/${clip}.mov`)))
      before.put(`media/fog/${clip}.mov`, contentOf(clip));
  before.put(
    'media/fog/fog.otio',
    otio(
      'Fog',
      clips.map((clip) => `${clip}.mov`),
    ),
  );
  await before.read(1 as never);
  await addArchive(before.db, { projectId: FOG, carrierIds, folder, baseId, scope: USUAL_SCOPE, now: new Date() });
  await before.runPlan();
  expect(await before.workOff()).toMatchObject({ state: 'done', trouble: null });
  return (await before.db.select().from(archives)).at(-1)!.id as ArchiveId;
}

async function found(name: string): Promise<CarrierId> {
  const settings = { folder: path.join(before.root, name) };
  return addCarrier(site.db, { name, kind: 'disk', place: 'shelf', settings, capacityBytes: null }, new Date());
}
async function takeIn(carrierId: CarrierId, folder: string) {
  await askToTakeIn(site.db, { carrierId, folder, name: '', client: '', year: null }, { who: 'Mara', now: new Date() });
  const job = await site.workOff();
  expect([job.state, job.trouble]).toEqual(['done', null]);
}
/** What the plan of the last restore said. */
let told: string[] = [];
const archiveIn = async (folder: string) =>
  (await site.db.select().from(archives).where(eq(archives.folder, folder)))[0]!;

async function restored(folder: string, as: string, only: { timelines: string[] } | null = null): Promise<string[]> {
  const { id } = await archiveIn(folder);
  const [copy] = await site.db.select().from(archiveCopies).where(eq(archiveCopies.archiveId, id));
  await addRestore(site.db, {
    ...{ archiveId: id as ArchiveId, copyId: copy!.id, volumeId: 1 as never, folder: as, now: new Date() },
    only: only && { ...only, bins: [], files: [] },
  });
  const { steps } = await currentPlan(site.db);
  told = (await findingsOf(site.db, steps)).map((one) => findingWords(one, 0).what);
  await site.runPlan();
  expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
  const all = readdirSync(path.join(site.root, 'back', as), { recursive: true, encoding: 'utf8' });
  const media = all.filter((name) => name.endsWith('.mov'));
  for (const name of media)
    expect(readFileSync(path.join(site.root, 'back', as, name)).equals(contentOf(path.basename(name, '.mov')))).toBe(
      true,
    );
  return media.map((name) => path.basename(name, '.mov')).sort();
}

const orders = fc.sample(fc.shuffledSubarray([1, 2, 3], { minLength: 3 }), 1);

test.each([[[1, 2, 3]], [[3, 2, 1]], ...orders.map((one) => [one])])(
  'nights that build on one another, taken in in the order %j',
  async (order) => {
    before = await TestSite.open();
    site = await TestSite.open();
    await before.volume('media');
    await site.volume('back');
    const disk = await before.carrier('kd-1');
    let base: ArchiveId | null = null;
    for (const night of [1, 2, 3]) base = await write(clipsOf(night), [disk], `fog_${night}`, base);
    const again = await found('kd-1');
    for (const night of order) await takeIn(again, `fog_${night}`);
    expect(await site.db.select().from(awaitedFiles)).toEqual([]);
    expect((await site.db.select().from(jobs)).filter((job) => job.state !== 'done')).toEqual([]);
    for (const night of [1, 2, 3]) {
      const { id, files, baseId } = await archiveIn(`fog_${night}`);
      const was = (await before.db.select().from(archives))[night - 1]!;
      expect([files, baseId !== null]).toEqual([was.files, night > 1]);
      expect((await timelinesIn(site.db, id as ArchiveId)).map(({ name, missing }) => [name, missing])).toEqual([
        ['Cut', 0],
      ]);
      expect(await restored(`fog_${night}`, `whole ${night}`)).toEqual(clipsOf(night));
    }
    expect(await restored('fog_3', 'by timeline', { timelines: ['Cut'] })).toEqual(['a', 'b', 'c']);
    await askToReadBackAll(site.db, (await archiveIn('fog_3')).id, { who: 'Mara', now: new Date() });
    expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
    // What others need is not let go.
    const first = await archiveIn('fog_1');
    await expect(letGo(site.db, first.id as ArchiveId, 'fog_1', { who: 'Mara', now: new Date() })).rejects.toThrow(
      'builds on it',
    );
  },
);

test('one of which the ground is missing says so, and holds what it has', async () => {
  before = await TestSite.open();
  site = await TestSite.open();
  await before.volume('media');
  await site.volume('back');
  const [one, two] = [await before.carrier('kd-1'), await before.carrier('kd-2')];
  const base = await write(['a', 'b'], [one], 'fog_1', null);
  await write(['a', 'b', 'c'], [two], 'fog_2', base);
  await takeIn(await found('kd-2'), 'fog_2');
  const [receipt] = await site.db.select().from(receipts).where(eq(receipts.action, 'taken in'));
  expect(receipt!.title).toContain('2 files of it lie in fog_1, which is not in the catalogue yet');
  expect(await restored('fog_2', 'as far as it is here')).toEqual(['c']);
  expect(told).toContain('2 files of it lie in fog_1, which is not in the catalogue yet');
  await takeIn(await found('kd-1'), 'fog_1');
  expect(await restored('fog_2', 'whole')).toEqual(['a', 'b', 'c']);
  expect(told.join()).not.toContain('not in the catalogue');
});

test.each([[[0, 1]], [[1, 0]]])('one on two carriers, taken in in the order %j, and its second copy', async (order) => {
  before = await TestSite.open();
  site = await TestSite.open();
  await before.volume('media');
  await site.volume('back');
  const room = 16_000_000 + 100_000;
  const names = ['kd-1', 'kd-2', 'kd-3'];
  const ids = [await before.carrier('kd-1', room), await before.carrier('kd-2', room), await before.carrier('kd-3')];
  await write(['a', 'b', 'c', 'd'], ids, 'fog_1', null);
  const folders = (name: string) => readdirSync(path.join(before.root, name)).filter((one) => !one.startsWith('.'));
  expect(names.map((name) => folders(name).length)).toEqual([1, 1, 2]);
  for (const i of order) await takeIn(await found(names[i]!), folders(names[i]!)[0]!);
  expect(await site.db.select().from(awaitedFiles)).toEqual([]);
  const [first] = (await site.db.select().from(archives)).filter(({ baseId }) => baseId !== null);
  expect(await restored(first!.folder, 'whole')).toEqual(['a', 'b', 'c', 'd']);
  expect(await restored(first!.folder, 'by timeline', { timelines: ['Cut'] })).toEqual(['a', 'b', 'c', 'd']);
  // The same again from another carrier is a copy, and no archive of its own.
  const third = await found('kd-3');
  for (const folder of folders('kd-3')) await takeIn(third, folder);
  expect(await site.db.select().from(archives)).toHaveLength(2);
  expect(await site.db.select().from(archiveCopies)).toHaveLength(4);
  const files = await site.db.select().from(archiveFiles);
  expect(files.filter(({ archiveId }) => archiveId === first!.id).length).toBeGreaterThan(4);
});
