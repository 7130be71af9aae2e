// Tries to let an archive go that must not, and to count on one that was.
import path from 'node:path';
import { existsSync } from 'node:fs';
import { USUAL_SCOPE } from '#core/archive/selection.ts';
import type { ArchiveId, CarrierId, ProjectId } from '#core/model.ts';
import { otio, TestSite } from '#test/site.ts';
import { archiveCopies, copyParts } from '../db/schema/archives.ts';
import { receipts } from '../db/schema/receipts.ts';
import { search } from '../search/search.ts';
import { whereStored } from '../search/where.ts';
import { addArchive } from '../steps/archive.ts';
import { addCopy } from '../steps/copy-archive.ts';
import { addOriginalsRemoval } from '../steps/remove-originals.ts';
import { addRestore } from '../steps/restore.ts';
import { carrierPage } from '../stores/carrier-register.ts';
import { holdsBack, letGo, setHold, setKeeping, timeIsOver } from './keeping.ts';
import { archiveById } from './page.ts';
import { askToReadBackAll } from './read-back.ts';
import { archiveRows } from './shelf.ts';
import { askToTakeIn } from './take-in.ts';

let site: TestSite;
let carrier: CarrierId;
const ONE = 1 as ArchiveId;
const DAY_MS = 86_400_000;
const by = () => ({ who: 'Mara', now: new Date() });

beforeEach(async () => {
  site = await TestSite.open();
  const volume = await site.volume('media');
  site.put('media/fog/a.mov', 'a'.repeat(50_000));
  site.put('media/fog/fog.otio', otio('Fog', ['a.mov']));
  await site.read(volume);
  carrier = await site.carrier('kd-1');
  await addArchive(site.db, {
    ...{ projectId: 1 as ProjectId, carrierIds: [carrier], folder: 'fog_1', scope: USUAL_SCOPE, now: new Date() },
  });
  await site.runPlan();
  expect(await site.workOff()).toMatchObject({ state: 'done' });
});
afterEach(() => site.close());

test('a rule, a legal hold, what builds on it and what is planned each hold it back, and the wrong name does nothing', async () => {
  const tries = () => letGo(site.db, ONE, 'fog_1', by());
  await setKeeping(site.db, ONE, { rule: 'for ever', until: null }, by());
  await expect(tries()).rejects.toThrow('Fog is kept for ever. Nothing was let go.');
  const later = new Date(Date.now() + 40 * DAY_MS);
  await setKeeping(site.db, ONE, { rule: 'until', until: later }, by());
  await expect(tries()).rejects.toThrow('is kept until');
  await expect(setKeeping(site.db, ONE, { rule: 'until', until: later }, by())).rejects.toThrow('already');
  await expect(setKeeping(site.db, ONE, { rule: 'until', until: null }, by())).rejects.toThrow('Say until which day');
  await setKeeping(site.db, ONE, { rule: 'ask', until: null }, by());
  await setHold(site.db, ONE, 'a dispute about the music', by());
  await expect(tries()).rejects.toThrow('under legal hold: a dispute about the music');
  await expect(setHold(site.db, ONE, 'twice', by())).rejects.toThrow('under legal hold already');
  await setHold(site.db, ONE, null, by());
  await expect(setHold(site.db, ONE, null, by())).rejects.toThrow('no legal hold');
  await addCopy(site.db, { archiveId: ONE, carrierIds: [await site.carrier('kd-2')], now: new Date() });
  await expect(tries()).rejects.toThrow('is in the plan, or under way');
  await site.runPlan();
  await site.workOff();
  await addArchive(site.db, {
    ...{ projectId: 1 as ProjectId, carrierIds: [carrier], folder: 'fog_2', scope: USUAL_SCOPE, now: new Date() },
    baseId: ONE,
  });
  await site.runPlan();
  await site.workOff();
  await expect(tries()).rejects.toThrow('fog_2 builds on it');
  await expect(letGo(site.db, 2 as ArchiveId, 'fog', by())).rejects.toThrow('Type fog_2 to let it go');
  await expect(letGo(site.db, 9 as ArchiveId, 'x', by())).rejects.toThrow('no such sealed archive');
  expect((await archiveRows(site.db)).map((row) => row.state)).toEqual(['sealed', 'sealed']);
  expect(
    (await site.db.select().from(receipts)).map((row) => row.action).filter((a) => /keeping|hold/.test(a)),
  ).toEqual([
    ...['archive keeping changed', 'archive keeping changed', 'archive keeping changed'],
    ...['legal hold set', 'legal hold lifted'],
  ]);
});

test('what was let go is counted on by nothing, is erased nowhere, and can be taken in again', async () => {
  const { name, carriers } = await letGo(site.db, ONE, 'fog_1', by());
  expect([name, carriers]).toEqual(['Fog', ['kd-1']]);
  expect(existsSync(path.join(site.root, 'kd-1/fog_1/data/media/Rushes/a.mov'))).toBe(true);
  expect(await archiveRows(site.db)).toEqual([]);
  expect(await archiveById(site.db, 1)).toMatchObject({ state: 'let go' });
  expect(await archiveRows(site.db, 1)).toMatchObject([{ state: 'let go', copies: [] }]);
  const states = [...(await site.db.select().from(archiveCopies)), ...(await site.db.select().from(copyParts))];
  expect(states.map((row) => row.state)).toEqual(['let go', 'let go']);
  expect(await whereStored(site.db, { words: ['a.mov'], ids: null, most: 5 })).toEqual([]);
  expect((await search(site.db, 'Cut')).hits.filter((hit) => hit.what === 'timeline')).toEqual([]);
  // The originals are the only copy again.
  await expect(addOriginalsRemoval(site.db, ONE, new Date())).rejects.toThrow();
  await expect(askToReadBackAll(site.db, 1, by())).rejects.toThrow('nothing to read back');
  const asked = { archiveId: ONE, copyId: 1, volumeId: await site.volume('back'), folder: 'fog', now: new Date() };
  await expect(addRestore(site.db, asked)).rejects.toThrow('let go');
  await expect(letGo(site.db, ONE, 'fog_1', by())).rejects.toThrow('no such sealed archive');
  expect((await site.db.select().from(receipts)).at(-1)).toMatchObject({
    ...{ action: 'archive let go', title: 'fog_1 let go; what lies on kd-1 may be wiped' },
    facts: { lies: [{ carrier: 'kd-1', folder: 'fog_1' }] },
  });
  await site.look();
  expect((await carrierPage(site.db, carrier))!.strangers).toEqual(['fog_1']);
  await askToTakeIn(site.db, { carrierId: carrier, folder: 'fog_1', name: 'Fog', client: '', year: null }, by());
  expect(await site.workOff()).toMatchObject({ state: 'done' });
  expect(await archiveRows(site.db)).toMatchObject([{ name: 'Fog', state: 'sealed', copies: [{ state: 'good' }] }]);
});

test('when its time is over somebody decides, unless it is held', async () => {
  expect(await timeIsOver(site.db, new Date())).toEqual([]);
  await setKeeping(site.db, ONE, { rule: 'until', until: new Date(Date.now() + DAY_MS) }, by());
  expect(await timeIsOver(site.db, new Date())).toEqual([]);
  const then = new Date(Date.now() + 2 * DAY_MS);
  expect(await timeIsOver(site.db, then)).toMatchObject([{ archiveId: 1, name: 'Fog', folder: 'fog_1' }]);
  expect(await holdsBack(site.db, (await archiveById(site.db, 1))!, then)).toBeNull();
  await setHold(site.db, ONE, 'audit', by());
  expect(await timeIsOver(site.db, then)).toEqual([]);
});
