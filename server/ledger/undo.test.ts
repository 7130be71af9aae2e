import { desc, eq } from 'drizzle-orm';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { otio, TestSite } from '#test/site.ts';
import { homes, projects, projectStates } from '../db/schema/projects.ts';
import { receipts } from '../db/schema/receipts.ts';
import { setHome } from '../projects/homes.ts';
import { setState } from '../projects/projects.ts';
import { houseRules, setHouseRules } from '../site/house-rules.ts';
import { postpone, postponedNow } from '../site/postponed.ts';
import { brokenAmong } from './chain.ts';
import { canBeUndone, undoReceipt } from './undo.ts';

const FOG = 1 as ProjectId;
let site: TestSite;
let media: VolumeId;
let other: VolumeId;
let clock = Date.UTC(2026, 10, 2, 8);
const by = () => ({ who: 'Mara', now: new Date((clock += 60_000)) });
beforeEach(async () => {
  site = await TestSite.open();
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/a.mov'], ['rushes/a.mov']));
  site.put('media/fog/rushes/a.mov', 'a');
  [media, other] = [await site.volume('media'), await site.volume('other')];
  await site.read(media);
});
afterEach(() => site.close());

const project = async () => (await site.db.select().from(projects).where(eq(projects.id, FOG)))[0]!;
const states = () => site.db.select().from(projectStates).orderBy(projectStates.state);
const lastReceipt = async () => (await site.db.select().from(receipts).orderBy(desc(receipts.id)).limit(1))[0]!;
const undo = (id: number | null) => undoReceipt(site.db, id!, by());

test('a state is taken back with the day since which the one before was, and what was known of earlier times', async () => {
  await setState(site.db, { projectId: FOG, state: 'delivered', since: new Date(clock), ...by() });
  await setState(site.db, { projectId: FOG, state: 'in work', since: new Date(clock), ...by() });
  const before = [await project(), await states()];
  const id = await setState(site.db, { projectId: FOG, state: 'delivered', ...by(), since: new Date(clock) });
  expect((await project()).state).toBe('delivered');
  expect(await undo(id)).toBe('Fog: in work to delivered');
  expect([await project(), await states()]).toEqual(before);
  expect(await lastReceipt()).toMatchObject({
    who: 'Mara',
    title: 'Undone: Fog: in work to delivered',
    facts: { undoes: id },
  });
  // Once: now it is not as that change left it.
  await expect(undo(id)).rejects.toThrow('It was changed again since, so nothing was undone.');
  expect([await project(), await states()]).toEqual(before);
  expect((await brokenAmong(site.db, await site.db.select().from(receipts))).size).toBe(0);
});

test('what somebody changed since is left', async () => {
  const first = await setState(site.db, { projectId: FOG, state: 'finishing', since: new Date(clock), ...by() });
  await setState(site.db, { projectId: FOG, state: 'delivered', since: new Date(clock), ...by() });
  const count = (await site.db.select().from(receipts)).length;
  await expect(undo(first)).rejects.toThrow('changed again since');
  expect((await project()).state).toBe('delivered');
  expect((await site.db.select().from(receipts)).length).toBe(count);
});

test('a home goes back to where it was, or to nowhere', async () => {
  const first = await setHome(site.db, FOG, { kind: 'source', volumeId: media, folder: 'fog/rushes' }, by());
  const second = await setHome(site.db, FOG, { kind: 'source', volumeId: other, folder: '' }, by());
  const own = async () => (await site.db.select().from(homes)).map(({ volumeId, folder }) => [volumeId, folder]);
  await expect(undo(first)).rejects.toThrow('changed again since');
  await undo(second);
  expect(await own()).toEqual([[media, 'fog/rushes']]);
  await undo(first);
  expect(await own()).toEqual([]);
});

test('rules of the house, and decisions that were put off', async () => {
  const before = await houseRules(site.db);
  await setHouseRules(site.db, { ...before, readBackHours: 12, copies: { copies: 3, places: 2 } }, by());
  await undo((await lastReceipt()).id);
  expect(await houseRules(site.db)).toEqual(before);
  const until = new Date(clock + 10 * 86_400_000);
  await postpone(site.db, { key: 'full 1', what: 'media is full', until, reason: 'A disk comes.' }, by());
  const { id } = await lastReceipt();
  await undo(id);
  expect((await postponedNow(site.db, new Date(clock))).size).toBe(0);
  await expect(undo(id)).rejects.toThrow('changed again since');
});

test('what was done on a disk, and what is not there, is not undone from a receipt', async () => {
  const id = await setHome(site.db, FOG, { kind: 'source', volumeId: media, folder: '' }, by());
  expect(canBeUndone({ action: 'caches removed', facts: {} })).toBe(false);
  // One from before it was written down what was there.
  expect(canBeUndone({ action: 'home changed', facts: { kind: 'source' } })).toBe(false);
  await expect(undo(id + 1)).rejects.toThrow('There is no such receipt.');
  const added = (await site.db.select().from(receipts).where(eq(receipts.action, 'volume added')))[0];
  if (added) await expect(undo(added.id)).rejects.toThrow('cannot be undone from here');
});
