// Tries to make another copy of an archive lose something, or say of a copy what is not so.
import { execFileSync } from 'node:child_process';
import { existsSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import { type PackedAs, USUAL_SCOPE } from '#core/archive/selection.ts';
import type { ArchiveId, CarrierId, ProjectId } from '#core/model.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { askToReadBackAll } from '../archives/read-back.ts';
import { archiveRows, damagedCopies } from '../archives/shelf.ts';
import { archiveCopies, copyParts } from '../db/schema/archives.ts';
import { receipts } from '../db/schema/receipts.ts';
import { workerReach } from '../db/schema/stores.ts';
import { currentPlan, findingsOf } from '../plan/plan.ts';
import { addArchive } from './archive.ts';
import { addCopy, repairable } from './copy-archive.ts';

let site: TestSite;
const ONE = 1 as ArchiveId;
const CLIPS = ['a', 'b', 'c', 'd'];

beforeEach(async () => {
  site = await TestSite.open();
  const volume = await site.volume('media');
  for (const [i, clip] of CLIPS.entries()) site.put(`media/fog/rushes/${clip}.mov`, Buffer.alloc(200_000 + i, clip));
  site.put(
    'media/fog/fog.otio',
    otio(
      'Fog',
      CLIPS.map((clip) => `rushes/${clip}.mov`),
    ),
  );
  await site.read(volume);
});
afterEach(() => site.close());

const at = (...parts: string[]) => path.join(site.root, ...parts);
async function run() {
  await site.runPlan();
  return site.workOff();
}
async function archived(carrierIds: readonly CarrierId[], pack: PackedAs = 'folder') {
  const scope = { ...USUAL_SCOPE, pack };
  await addArchive(site.db, { projectId: 1 as ProjectId, carrierIds, folder: 'fog_1', scope, now: new Date() });
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
}
const copyTo = (...carrierIds: CarrierId[]) => addCopy(site.db, { archiveId: ONE, carrierIds, now: new Date() });
const rot = (place: string) => writeFileSync(at(place), Buffer.alloc(readFileSync(at(place)).length, '!'));
const A = 'fog_1/data/media/Rushes/a.mov';

test.each(['folder', 'tar', 'zip'] as const)(
  'another copy as %s holds the very same files, is read back, and makes up what was short',
  async (pack) => {
    await archived([await site.carrier('kd-1')], pack);
    expect((await archiveRows(site.db))[0]!.short).toBe('1 of 2 copies');
    await copyTo(await site.carrier('kd-2'));
    expect(await run()).toMatchObject({ state: 'done', trouble: null });
    const ending = pack === 'folder' ? '' : `.${pack}`;
    if (pack === 'folder') execFileSync('diff', ['-r', at('kd-1/fog_1'), at('kd-2/fog_1')]);
    else expect(existsSync(at(`kd-2/fog_1${ending}`))).toBe(true);
    const [row] = await archiveRows(site.db);
    expect(row).toMatchObject({ short: null, copies: [{ state: 'good' }, { state: 'good' }] });
    const by = { who: 'Mara', now: new Date(), on: 'kd-2' };
    await askToReadBackAll(site.db, ONE, by);
    expect((await site.workOff()).state).toBe('done');
    const receipt = (await site.db.select().from(receipts)).find((one) => one.action === 'copy written')!;
    expect(receipt).toMatchObject({ files: 6, facts: { archiveId: 1, carriers: ['kd-2'], from: ['kd-1'] } });
  },
);

test('it is read from whichever copy is whole, and the damaged one is known from then on', async () => {
  await archived([await site.carrier('kd-1'), await site.carrier('kd-2')]);
  rot(`kd-1/${A}`);
  const worker = site.worker();
  const third = await site.carrier('kd-3');
  await until(async () => (await site.db.select().from(workerReach)).length === 4);
  await copyTo(third);
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  await worker.stop();
  execFileSync('diff', ['-r', at('kd-2/fog_1'), at('kd-3/fog_1')]);
  expect((await site.db.select().from(archiveCopies)).map((copy) => copy.state)).toEqual(['damaged', 'good', 'good']);
});

test('a damaged copy is repaired onto another carrier; it counts until the new one was read back, and stays where it is', async () => {
  const [first, second] = [await site.carrier('kd-1'), await site.carrier('kd-2')];
  await archived([first, second]);
  await expect(addCopy(site.db, { archiveId: ONE, carrierIds: [second], instead: 1, now: new Date() })).rejects.toThrow(
    /not damaged/,
  );
  rot(`kd-1/${A}`);
  await askToReadBackAll(site.db, ONE, { who: 'Mara', now: new Date() });
  await site.workOff();
  expect(await damagedCopies(site.db)).toMatchObject([{ carrier: 'kd-1', others: 1 }]);
  expect(await repairable(site.db, ONE)).toMatchObject([{ carriers: ['kd-1'], to: null }]);
  const third = await site.carrier('kd-3');
  await site.look();
  const [damaged] = await repairable(site.db, ONE);
  expect(damaged).toMatchObject({ carriers: ['kd-1'], to: third });
  const repair = { archiveId: ONE, carrierIds: [third], instead: damaged!.copyId, now: new Date() };
  await addCopy(site.db, repair);
  expect((await currentPlan(site.db)).steps[0]!.title).toBe(
    'Repair Fog: a new copy on kd-3 instead of the damaged one on kd-1',
  );
  // The copy that it is read from rots as well: nothing is repaired, and both are told.
  const whole = readFileSync(at('kd-2', A));
  rot(`kd-2/${A}`);
  expect((await run()).state).toBe('failed');
  expect(await damagedCopies(site.db)).toHaveLength(2);
  expect(existsSync(at('kd-3/fog_1'))).toBe(false);
  // Brought back by hand: still damaged to us until a copy reads.
  writeFileSync(at('kd-2', A), whole);
  await site.db.update(archiveCopies).set({ state: 'good' }).where(eq(archiveCopies.id, 2));
  await site.db.update(copyParts).set({ state: 'good' }).where(eq(copyParts.copyId, 2));
  await site.look();
  await addCopy(site.db, repair);
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  execFileSync('diff', ['-r', at('kd-2/fog_1'), at('kd-3/fog_1')]);
  expect(existsSync(at('kd-1', A))).toBe(true);
  expect(await damagedCopies(site.db)).toEqual([]);
  expect(await repairable(site.db, ONE)).toEqual([]);
  const [row] = await archiveRows(site.db);
  expect(row!.copies.map(({ state }) => state).sort()).toEqual(['good', 'good', 'replaced']);
  await expect(addCopy(site.db, repair)).rejects.toThrow(/repaired already/);
});

test('where no copy of a file is whole there is no new copy, and nothing of it is left', async () => {
  await archived([await site.carrier('kd-1')]);
  rot(`kd-1/${A}`);
  await copyTo(await site.carrier('kd-2'));
  const ended = await run();
  expect(ended.state).toBe('failed');
  expect(ended.trouble).toMatch(/No copy of media\/Rushes\/a\.mov reads as it was sealed/);
  expect(readdirSync(at('kd-2')).filter((name) => name.includes('fog'))).toEqual([]);
  expect((await site.db.select().from(archiveCopies)).map((copy) => copy.state)).toEqual(['damaged', 'ended early']);
  // Of what has no good copy another is not even planned.
  await expect(copyTo(await site.carrier('kd-3'))).rejects.toThrow(/has no good copy to copy from/);
});

test('lists that rotted are no source, whatever they say', async () => {
  await archived([await site.carrier('kd-1')]);
  rot('kd-1/fog_1/manifest-sha512.txt');
  await copyTo(await site.carrier('kd-2'));
  expect(await run()).toMatchObject({ state: 'failed' });
  expect(existsSync(at('kd-2/fog_1'))).toBe(false);
});

test('nothing is written over, twice on one carrier, or where it does not fit', async () => {
  const first = await site.carrier('kd-1');
  await archived([first]);
  await expect(copyTo(first)).rejects.toThrow(/kd-1 holds a copy of Fog already/);
  await copyTo(await site.carrier('kd-2', 10_000_000));
  const { steps } = await currentPlan(site.db);
  expect((await findingsOf(site.db, steps)).map((one) => one.code)).toContain('carrier too small');
  await expect(site.runPlan()).rejects.toThrow();
});

test('somebody else’s folder of the same name stays, and there is no copy', async () => {
  await archived([await site.carrier('kd-1')]);
  await copyTo(await site.carrier('kd-2'));
  await site.runPlan();
  site.put('kd-2/fog_1/theirs', 'theirs');
  const ended = await site.workOff();
  expect(ended.trouble).toMatch(/kd-2 has something named fog_1 already/);
  expect(readdirSync(at('kd-2/fog_1'))).toEqual(['theirs']);
});

test('parts of an archive over two carriers are copied whole to one, or each to another', async () => {
  const small = 16_000_000 + 2 * 200_000 + 50_000;
  await archived([await site.carrier('s-1', small), await site.carrier('s-2', small)]);
  await copyTo(await site.carrier('kd-1'));
  expect((await run()).state).toBe('done');
  expect(readdirSync(at('kd-1')).filter((name) => name.includes('fog'))).toEqual(['fog_1_1of2', 'fog_1_2of2']);
  await copyTo(await site.carrier('s-3', small), await site.carrier('s-4', small));
  expect((await run()).state).toBe('done');
  for (const [folder, from, to] of [
    ['fog_1_1of2', 's-1', 's-3'],
    ['fog_1_2of2', 's-2', 's-4'],
  ] as const)
    execFileSync('diff', ['-r', at(from, folder), at(to, folder)]);
  const parts = await site.db.select().from(copyParts).where(eq(copyParts.state, 'good'));
  expect(parts).toHaveLength(6);
});
