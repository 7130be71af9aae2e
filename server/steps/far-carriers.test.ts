// Archives on tapes in a library and in a remote store: written, read back, restored in the order of the tape, thawed; and each
// fault at each of these. The catalogue says what is true, no good copy is ever marked by a bad drive alone, and nothing is lost
// while one good copy exists.
import { existsSync, readFileSync } from 'node:fs';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import type { ArchiveId, CarrierId, ProjectId, VolumeId } from '#core/model.ts';
import { USUAL_SCOPE } from '#core/archive/selection.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { startStore, type StoreStandIn } from '../carriers/store/stand-in.ts';
import { type LibraryStandIn, startLibrary } from '../carriers/tape/stand-in.ts';
import { dueReadBacks, readBackDue } from '../archives/due-read-backs.ts';
import { askToReadBackAll, readBackWords } from '../archives/read-back.ts';
import { archiveCopies, archives, copyFiles, copyParts } from '../db/schema/archives.ts';
import { jobs } from '../db/schema/jobs.ts';
import { receipts } from '../db/schema/receipts.ts';
import { stepItems } from '../db/schema/plans.ts';
import { carriers } from '../db/schema/stores.ts';
import { currentPlan } from '../plan/plan.ts';
import { findingsOf } from '../plan/plan.ts';
import { findingWords } from '#core/wording/findings.ts';
import { houseRules, setHouseRules } from '../site/house-rules.ts';
import { addCarrier } from '../stores/stores.ts';
import { addArchive } from './archive.ts';
import { addCopy } from './copy-archive.ts';
import { addOriginalsRemoval } from './remove-originals.ts';
import { addRestore } from './restore.ts';

let site: TestSite;
let library: LibraryStandIn;
let remote: StoreStandIn;
let volume: VolumeId;
let other: VolumeId;
const project = 1 as ProjectId;
const now = () => new Date();
const by = { who: 'Mara', now: new Date() };
const THAW_SECONDS = 2;

beforeEach(async () => {
  site = await TestSite.open();
  library = await startLibrary({
    ...{ folder: path.join(site.root, 'library'), slots: 6, drives: 2, tapeBytes: 200e6 },
    barcodes: ['KD0001L8', 'KD0002L8'],
  });
  const at = { bucket: 'shelf', accessKey: 'key', thawSeconds: THAW_SECONDS };
  remote = await startStore({ folder: path.join(site.root, 'store'), ...at });
  volume = await site.volume('media');
  other = await site.volume('other');
  for (const name of NAMES) site.put(`media/fog/${name}`, contentOf(name));
  site.put('media/fog/fog.otio', otio('Fog', NAMES));
  await site.read(volume);
});
afterEach(async () => {
  await site.close();
  await library.stop();
  await remote.stop();
});

const NAMES = Array.from({ length: 8 }, (_, i) => `shot ${i}.mov`);
const contentOf = (name: string) => name.repeat(10_000);

const newTape = (barcode: string) => {
  const settings = { library: library.address, barcode };
  return addCarrier(site.db, { name: barcode, kind: 'tape', place: 'library', settings, capacityBytes: null }, now());
};
const newStore = (storageClass = '') => {
  const settings = {
    ...{ address: remote.address, bucket: 'shelf', accessKey: 'key', secretKey: 's', rentedGb: '1', storageClass },
    ...{ thawHours: storageClass === '' ? '0' : '12', costPerGbMonth: '0.01', costPerGbBack: '200' },
  };
  return addCarrier(site.db, { name: 'Far', kind: 'remote store', place: 'far', settings, capacityBytes: null }, now());
};
async function archived(...ids: CarrierId[]): Promise<ArchiveId> {
  await addArchive(site.db, { projectId: project, carrierIds: ids, folder: 'fog_1', now: now() });
  await site.runPlan();
  const job = await site.workOff();
  expect([job.state, job.trouble]).toEqual(['done', null]);
  const [archive] = await site.db.select().from(archives);
  return archive!.id as ArchiveId;
}
async function restored(archiveId: ArchiveId, on: CarrierId, folder: string, only: string[] | null = null) {
  const [part] = await site.db.select().from(copyParts).where(eq(copyParts.carrierId, on));
  const meant = only && { timelines: [], bins: [], files: await idsOf(only) };
  await addRestore(site.db, { archiveId, copyId: part!.copyId, volumeId: other, folder, only: meant, now: now() });
  await site.runPlan();
  return workOff();
}
/** For so long a worker finds nothing that it could do, over several looks at what it reaches, before it is taken to be done. */
const NOTHING_FOR_MS = 4000;
/** Has a worker do what it can, however long that takes; work that waits for a carrier goes on waiting. */
async function workOff() {
  const worker = site.worker();
  let busyAt = Date.now();
  await until(async () => {
    if (!worker.isIdle()) busyAt = Date.now();
    const all = await site.db.select().from(jobs);
    return all.every((job) => job.finishedAt !== null) || Date.now() - busyAt > NOTHING_FOR_MS;
  });
  await worker.stop();
  return (await site.db.select().from(jobs).orderBy(jobs.id)).at(-1)!;
}
async function idsOf(names: readonly string[]): Promise<number[]> {
  const [rows] = (await site.db.execute(`SELECT id, payload_path AS path FROM archive_files` as never)) as unknown as [
    { id: number; path: string }[],
  ];
  return rows.filter(({ path: at }) => names.some((name) => at.endsWith(name))).map((row) => row.id);
}
const isWhole = (folder: string, names = NAMES) =>
  names.every((name) => {
    const place = path.join(site.root, 'other', folder, 'media/Rushes', name);
    return existsSync(place) && readFileSync(place, 'utf8') === contentOf(name);
  });
const states = async () =>
  (await site.db.select({ state: archiveCopies.state }).from(archiveCopies).orderBy(archiveCopies.id)).map(
    (row) => row.state,
  );

test('an archive to a tape and to a store at once, each read back, and brought back from either', async () => {
  const [tape, far] = [await newTape('KD0001L8'), await newStore()];
  const archiveId = await archived(tape, far);
  expect(await states()).toEqual(['good', 'good']);
  for (const [i, id] of [tape, far].entries()) {
    const job = await restored(archiveId, id, `back ${i}`);
    expect([job.state, job.trouble]).toEqual(['done', null]);
    expect(isWhole(`back ${i}`)).toBe(true);
  }
  expect(await site.db.select({ facts: carriers.facts }).from(carriers).where(eq(carriers.id, tape))).toMatchObject([
    { facts: { passes: 1, where: expect.stringMatching(/^(slot|drive) \d$/) } },
  ]);
  const placed = await site.db.select().from(copyFiles).where(eq(copyFiles.state, 'read back'));
  expect(placed.filter((row) => row.position !== null)).toHaveLength(placed.length / 2);
});

test('files are read from a tape in the order in which it winds least, and that is said before', async () => {
  const tape = await newTape('KD0001L8');
  const archiveId = await archived(tape);
  // As though they lay far apart.
  const all = await site.db.select().from(copyFiles);
  const ids = await idsOf(NAMES);
  const places = [900, 100, 700, 300, 500, 200, 800, 400];
  for (const [i, id] of ids.entries())
    await site.db.update(copyFiles).set({ position: places[i] }).where(eq(copyFiles.archiveFileId, id));
  expect(all.length).toBeGreaterThan(NAMES.length);
  const [part] = await site.db.select().from(copyParts);
  const only = { timelines: [], bins: [], files: ids };
  await addRestore(site.db, { archiveId, copyId: part!.copyId, volumeId: other, folder: 'back', only, now: now() });
  const { steps } = await currentPlan(site.db);
  const words = (await findingsOf(site.db, steps)).map((one) => findingWords(one, 0));
  expect(words.map((one) => one.what)).toEqual(['Read from KD0001L8 in the order in which it lies there']);
  expect(words[0]!.detail).toMatch(/^About .* of winding and reading; by name it would be /);
  await site.runPlan();
  expect((await site.workOff()).state).toBe('done');
  const items = await site.db
    .select()
    .from(stepItems)
    .where(eq(stepItems.stepId, steps[0]!.stepId))
    .orderBy(stepItems.id);
  const read = items.map((item) => places[ids.indexOf(item.archiveFileId!)]!);
  // Fifty blocks a wrap, forth and back: what is read is one of the best orders, and surely not that of the names.
  expect(read).not.toEqual(places);
  expect(new Set(read)).toEqual(new Set(places));
  expect(isWhole('back')).toBe(true);
});

test('what is kept cold is asked for, waited for and brought back; what it costs is said before', async () => {
  const far = await newStore('GLACIER');
  await addArchive(site.db, { projectId: project, carrierIds: [far], folder: 'fog_1', now: now() });
  await site.runPlan();
  expect((await site.workOff()).state).toBe('done');
  const [archive] = await site.db.select().from(archives);
  const [part] = await site.db.select().from(copyParts);
  const asked = { archiveId: archive!.id as ArchiveId, copyId: part!.copyId, volumeId: other, folder: 'back' };
  await addRestore(site.db, { ...asked, only: null, now: now() });
  const words = (await findingsOf(site.db, (await currentPlan(site.db)).steps)).map((one) => findingWords(one, 0).what);
  expect(words).toEqual([
    expect.stringMatching(/^It has to be brought up first, 12 h until it has thawed, and 0\.\d\d to bring it back$/),
  ]);
  await site.runPlan();
  const began = Date.now();
  const worker = site.worker();
  const phases = new Set<string | null>();
  let free = false;
  await until(async () => {
    const [job] = await site.db.select().from(jobs).where(eq(jobs.kind, 'restore'));
    phases.add(job!.phase);
    free ||= job!.phase === 'waiting until it has thawed' && job!.state === 'queued' && job!.lease === null;
    return job!.finishedAt !== null;
  });
  await worker.stop();
  expect(Date.now() - began).toBeGreaterThan(THAW_SECONDS * 1000);
  // Meanwhile it holds nothing, neither the volume nor the worker.
  expect(free).toBe(true);
  // And it says again what it is at.
  expect([...phases].filter((phase) => /thawed|restoring/.test(phase!))).toEqual(
    expect.arrayContaining(['waiting until it has thawed', 'restoring']),
  );
  const last = (await site.db.select().from(jobs).where(eq(jobs.kind, 'restore')))[0]!;
  expect(last.phase).not.toBe('waiting until it has thawed');
  expect(isWhole('back')).toBe(true);
  expect(remote.calls.get('thaw')).toBeGreaterThanOrEqual(NAMES.length);
  // Nobody brings it up by himself at night.
  await setHouseRules(site.db, { ...(await houseRules(site.db)), shelf: { readBackMonths: 1, carrierYears: 0 } }, by);
  const later = new Date(Date.now() + 90 * 86_400_000);
  expect(await dueReadBacks(site.db, later)).toMatchObject([{ carrier: 'Far', isThere: true, isCold: true }]);
  expect(await readBackDue(site.db, { ...by, now: later })).toBe(0);
  expect(await readBackWords(site.db, archive!.id)).toMatch(
    /^, 12 h until it has thawed, and 0\.\d\d to bring it back$/,
  );
});

test('one file of a cold archive thaws alone, with its lists', async () => {
  const far = await newStore('GLACIER');
  const archiveId = await archived(far);
  const job = await restored(archiveId, far, 'back', [NAMES[3]!]);
  expect([job.state, job.trouble]).toEqual(['done', null]);
  expect(isWhole('back', [NAMES[3]!])).toBe(true);
  expect(isWhole('back', [NAMES[4]!])).toBe(false);
  expect(remote.calls.get('thaw')).toBe(1);
});

test('an archive as one file is refused before it is in the plan', async () => {
  const tape = await newTape('KD0001L8');
  const scope = { ...USUAL_SCOPE, pack: 'tar' as const };
  await expect(
    addArchive(site.db, { projectId: project, carrierIds: [tape], folder: 'fog_1', scope, now: now() }),
  ).rejects.toThrow('KD0001L8 is a tape, which takes archives as a folder of files only. Nothing was added.');
});

const CALM = {
  ...{ away: false, full: false, flipped: null, unreadable: null, dirtyDrive: null, failedDrive: null },
  ...{ swapped: null, taken: null },
};
const FAR_CALM = { away: false, full: false, flippedIn: null, unreadableIn: null, swapped: false };
type Fault = { on: 'library' | 'store'; what: object; damages: boolean };
const firstMedia = { barcode: 'KD0001L8', block: -1 };
const FAULTS: Record<string, Fault> = {
  'a bit turned on the tape': { on: 'library', what: { flipped: firstMedia }, damages: true },
  'a block no drive reads': { on: 'library', what: { unreadable: firstMedia }, damages: true },
  'a dirty drive': { on: 'library', what: { dirtyDrive: 0 }, damages: false },
  'a drive that failed': { on: 'library', what: { failedDrive: 1 }, damages: false },
  'both drives out': { on: 'library', what: { dirtyDrive: 0, failedDrive: 1 }, damages: false },
  'a library that is away': { on: 'library', what: { away: true }, damages: false },
  'a tape taken out': { on: 'library', what: { taken: 'KD0001L8' }, damages: false },
  'another tape in its place': { on: 'library', what: { swapped: 'KD0001L8' }, damages: false },
  'a full tape': { on: 'library', what: { full: true }, damages: false },
  'a bit turned in the store': { on: 'store', what: { flippedIn: 'shot 3' }, damages: true },
  'an object the store cannot read': { on: 'store', what: { unreadableIn: 'shot 3' }, damages: false },
  'a store that is away': { on: 'store', what: { away: true }, damages: false },
  'another bucket': { on: 'store', what: { swapped: true }, damages: false },
  'a full store': { on: 'store', what: { full: true }, damages: false },
};

/** One here; `FAULTS=all` goes over all of them. */
const SOME = ['a bit turned on the tape'];
const TRIED = process.env.FAULTS === 'all' ? Object.keys(FAULTS) : SOME;

test.each(TRIED)(
  '%s: at reading back, restoring, copying and letting go',
  async (name) => {
    const { on, what, damages } = FAULTS[name]!;
    const [tape, far] = [await newTape('KD0001L8'), await newStore()];
    const archiveId = await archived(tape, far);
    const [own] = await idsOf([NAMES[0]!]);
    const written = await site.db.select().from(copyFiles).where(eq(copyFiles.archiveFileId, own!));
    const first = written.find((row) => row.position !== null);
    const place = Object.values(what)[0] === firstMedia ? { ...firstMedia, block: first!.position! } : null;
    const fault = place ? { [Object.keys(what)[0]!]: place } : what;
    const faulty = on === 'library' ? tape : far;
    const set = (on_: boolean) => {
      Object.assign(library.faults, CALM, on === 'library' && on_ ? fault : {});
      Object.assign(remote.faults, FAR_CALM, on === 'store' && on_ ? fault : {});
    };
    const good = async () => {
      const parts = await site.db.select().from(copyParts).orderBy(copyParts.id);
      expect(parts.filter((row) => row.carrierId !== faulty).every((row) => row.state === 'good')).toBe(true);
      return parts.find((row) => row.carrierId === faulty)!.state;
    };

    set(true);
    await askToReadBackAll(site.db, archiveId, { who: 'Mara', now: now() });
    await workOff();
    expect(await good()).toBe(damages ? 'damaged' : 'good');
    set(false);

    // From the other copy where this one does not read, and told; or asked for again. Whatever comes, it is whole.
    set(true);
    const back = await restored(archiveId, faulty, 'back').catch((error: Error) => ({
      state: 'refused',
      trouble: error.message,
    }));
    set(false);
    if (back.state === 'queued') Object.assign(back, await workOff());
    if (back.state === 'done') expect(isWhole('back')).toBe(true);
    else expect(existsSync(path.join(site.root, 'other/back'))).toBe(false);
    expect(await good()).toBe(damages ? 'damaged' : 'good');

    // A further copy: from whichever reads.
    const next = await newTape('KD0002L8');
    set(true);
    await addCopy(site.db, { archiveId, carrierIds: [next], now: now() });
    await site.runPlan().catch(() => undefined);
    await workOff();
    set(false);
    for (const row of await site.db.select().from(copyParts).where(eq(copyParts.carrierId, next)))
      expect(['good', 'ended early', 'writing']).toContain(row.state);

    // Originals go only on what was read back in this step.
    set(true);
    await addOriginalsRemoval(site.db, archiveId, now()).catch(() => undefined);
    await site.runPlan().catch(() => undefined);
    await workOff();
    set(false);
    const copy = [tape, far].find((id) => id !== faulty)!;
    const last = await restored(archiveId, copy, 'last');
    expect([last.state, last.trouble]).toEqual(['done', null]);
    expect(isWhole('last')).toBe(true);
    expect((await site.db.select().from(receipts)).length).toBeGreaterThan(3);
  },
  120_000,
);

test('several requests for one tape go one after the other, so that a single drive loads it once', async () => {
  const single = await startLibrary({
    ...{ folder: path.join(site.root, 'single'), slots: 4, drives: 1, tapeBytes: 200e6 },
    barcodes: ['KS0001L8', 'KS0002L8'],
  });
  try {
    const tapes: CarrierId[] = [];
    for (const barcode of ['KS0001L8', 'KS0002L8']) {
      const settings = { library: single.address, barcode };
      const place = { kind: 'tape', place: 'library', capacityBytes: null } as const;
      tapes.push(await addCarrier(site.db, { name: barcode, settings, ...place }, now()));
    }
    // One drive: each tape has an archive of its own.
    for (const [i, id] of tapes.entries()) {
      const asked = { projectId: project, carrierIds: [id], folder: `fog_${i + 1}` };
      await addArchive(site.db, { ...asked, now: now() });
      await site.runPlan();
      expect(await site.workOff()).toMatchObject({ state: 'done', trouble: null });
    }
    const before = single.clock().loads;
    const parts = await site.db.select().from(copyParts).orderBy(copyParts.id);
    const all = await site.db.select().from(archives).orderBy(archives.id);
    for (const [i, of] of [0, 1, 0, 1].entries()) {
      const asked = { archiveId: all[of]!.id as ArchiveId, copyId: parts[of]!.copyId, volumeId: other };
      await addRestore(site.db, { ...asked, folder: `back ${i}`, only: null, now: now() });
      await site.runPlan();
    }
    await workOff();
    for (let i = 0; i < 4; i++) expect(existsSync(path.join(site.root, `other/back ${i}/media`))).toBe(true);
    expect(single.clock().loads - before).toBeLessThanOrEqual(2);
  } finally {
    await single.stop();
  }
}, 120_000);
