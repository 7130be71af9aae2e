// Reading copies back on demand: what is whole is told as whole, and every damage is told and written down.
import { appendFileSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import type { CarrierId, ProjectId, VolumeId } from '#core/model.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { archiveCopies } from '../db/schema/archives.ts';
import { jobs } from '../db/schema/jobs.ts';
import { receipts } from '../db/schema/receipts.ts';
import { addArchive } from '../steps/archive.ts';
import { askToReadBackAll } from './read-back.ts';
import { archiveRows } from './shelf.ts';

let site: TestSite;
let carriers: CarrierId[];

beforeEach(async () => {
  site = await TestSite.open();
  const volume: VolumeId = await site.volume('media');
  carriers = [await site.carrier('kd-1'), await site.carrier('kd-2')];
  site.put('media/fog/rushes/a.mov', Buffer.alloc(300_000, 'a'));
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/a.mov']));
  await site.read(volume);
  await addArchive(site.db, { projectId: 1 as ProjectId, carrierIds: carriers, folder: 'fog_1', now: new Date() });
  await site.runPlan();
  await site.workOff();
});
afterEach(() => site.close());

const by = () => ({ who: 'Mara', now: new Date() });
const bag = (carrier: string, ...parts: string[]) => path.join(site.root, carrier, 'fog_1', ...parts);
const copies = () => site.db.select().from(archiveCopies).orderBy(archiveCopies.id);
const readBacks = () => site.db.select().from(jobs).where(eq(jobs.kind, 'read back copy')).orderBy(jobs.id);
const told = async () =>
  (await site.db.select().from(receipts).where(eq(receipts.action, 'copy read back')).orderBy(receipts.id))
    .map((one) => one.title)
    .sort();

test('copies that are whole are told as whole, with the time they were read', async () => {
  const before = await copies();
  expect(await askToReadBackAll(site.db, 1, by())).toEqual(['kd-1', 'kd-2']);
  await site.workOff();
  for (const [i, copy] of (await copies()).entries()) {
    expect(copy.state).toBe('good');
    expect(copy.readBackAt!.getTime()).toBeGreaterThan(before[i]!.readBackAt!.getTime());
  }
  expect(await told()).toEqual([expect.stringContaining('kd-1: 2 files'), expect.stringContaining('all as sealed')]);
});

test.each<[string, (at: string) => void]>([
  ['a byte of a payload file', (at) => appendFileSync(path.join(at, 'data/media/Rushes/a.mov'), 'x')],
  ['a payload file that is gone', (at) => rmSync(path.join(at, 'data/media/Rushes/a.mov'))],
  ['a list', (at) => appendFileSync(path.join(at, 'manifest-sha512.txt'), ' ')],
  ['a file that nobody listed', (at) => writeFileSync(path.join(at, 'data/more.mov'), 'more')],
])('damage to %s marks that copy, and no other', async (_what, damage) => {
  damage(bag('kd-2'));
  await askToReadBackAll(site.db, 1, by());
  await site.workOff();
  expect((await copies()).map((copy) => copy.state)).toEqual(['good', 'damaged']);
  const [first, second] = await readBacks();
  expect(first).toMatchObject({ state: 'done' });
  expect(second!.trouble).toMatch(/^This copy of .* is damaged: .*Make another copy/);
  const [row] = await archiveRows(site.db);
  expect(row!.short).not.toBeNull();
  // What was damaged once is not told as whole because it reads again.
  await askToReadBackAll(site.db, 1, { ...by(), on: 'KD-2' });
  await site.workOff();
  expect((await copies())[1]!.state).toBe('damaged');
});

test('a carrier with another disk in its place, and one that has nothing of it, change nothing', async () => {
  await expect(askToReadBackAll(site.db, 1, { ...by(), on: 'kd-9' })).rejects.toThrow('No copy of it is on kd-9');
  await askToReadBackAll(site.db, 1, { ...by(), on: 'kd-1' });
  renameSync(path.join(site.root, 'kd-1'), path.join(site.root, 'away'));
  const worker = site.worker();
  await new Promise((resolve) => setTimeout(resolve, 1500));
  // It waits for its carrier.
  expect((await readBacks())[0]).toMatchObject({ finishedAt: null });
  renameSync(path.join(site.root, 'away'), path.join(site.root, 'kd-1'));
  await until(async () => (await readBacks()).every((job) => job.finishedAt !== null));
  await worker.stop();
  expect((await copies()).map((copy) => copy.state)).toEqual(['good', 'good']);
});
