// Archives that lie on several carriers, and archives that build on an earlier one: nothing that holds of one on one carrier
// is lost by it.
import { execFileSync } from 'node:child_process';
import { cpSync, existsSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import { type ArchiveScope, type PackedAs, USUAL_SCOPE } from '#core/archive/selection.ts';
import type { ArchiveId, CarrierId, ProjectId, VolumeId } from '#core/model.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { wav } from '#test/wav.ts';
import { askToReadBackAll } from '../archives/read-back.ts';
import { archiveRows, carrierRows } from '../archives/shelf.ts';
import { archiveCopies, archiveFiles, archiveParts, archives, copyParts } from '../db/schema/archives.ts';
import { documents } from '../db/schema/documents.ts';
import { stepItems } from '../db/schema/plans.ts';
import { receipts } from '../db/schema/receipts.ts';
import { carriers, workerReach } from '../db/schema/stores.ts';
import { currentPlan, findingsOf, runPlan } from '../plan/plan.ts';
import { addArchive } from './archive.ts';
import { addCopy } from './copy-archive.ts';
import { addOriginalsRemoval } from './remove-originals.ts';
import { addRestore } from './restore.ts';

let site: TestSite;
let volume: VolumeId;
const FOG = 1 as ProjectId;
const CLIPS = ['a', 'b', 'c', 'd', 'e', 'f'];
/** What lists take of every part, and room for three of the clips. */
const SMALL = 16_000_000 + 3 * 200_000 + 50_000;
const LARGE = 40_000_000;

beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('media');
  for (const [i, clip] of CLIPS.entries()) site.put(`media/fog/rushes/${clip}.mov`, Buffer.alloc(200_000 + i, clip));
  await writeDocument(CLIPS);
});
afterEach(() => site.close());

async function writeDocument(clips: readonly string[]): Promise<void> {
  site.put(
    'media/fog/fog.otio',
    otio(
      'Fog',
      clips.map((clip) => `rushes/${clip}.mov`),
    ),
  );
  await site.read(volume);
}

interface Asked {
  folder?: string;
  pack?: PackedAs;
  scope?: ArchiveScope;
  baseId?: number;
}
const add = (
  carrierIds: readonly CarrierId[],
  { folder = 'fog_1', pack = 'folder', scope = USUAL_SCOPE, baseId }: Asked = {},
) =>
  addArchive(site.db, {
    ...{ projectId: FOG, carrierIds, folder, scope: { ...scope, pack }, now: new Date() },
    baseId: (baseId ?? null) as ArchiveId | null,
  });
async function run() {
  await site.runPlan();
  return site.workOff();
}
async function archive(carrierIds: readonly CarrierId[], asked: Asked = {}) {
  await add(carrierIds, asked);
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  return (await site.db.select().from(archives)).at(-1)!.id as ArchiveId;
}
const smalls = async (...names: string[]) => {
  const ids = [];
  for (const name of names) ids.push(await site.carrier(name, SMALL));
  return ids;
};
async function restore(archiveId: ArchiveId, folder: string) {
  const copies = await site.db.select().from(archiveCopies).where(eq(archiveCopies.archiveId, archiveId));
  const good = copies.find((copy) => copy.state === 'good') ?? copies[0]!;
  await addRestore(site.db, { archiveId, copyId: good.id, volumeId: volume, folder, now: new Date() });
  return run();
}
const at = (...parts: string[]) => path.join(site.root, ...parts);
const restoredClips = (folder: string) =>
  readdirSync(at('media', folder, 'media/Rushes'))
    .sort()
    .map((name) =>
      readFileSync(at('media', folder, 'media/Rushes', name))
        .subarray(0, 1)
        .toString(),
    );
const findings = async () => {
  const { steps } = await currentPlan(site.db);
  return (await findingsOf(site.db, steps)).map(({ code, weight, facts }) => ({ code, weight, facts }));
};

test('what fits on no carrier lies on two in numbered parts, each of which general tools prove alone', async () => {
  await archive(await smalls('kd-1', 'kd-2'));
  expect(readdirSync(at('kd-1')).filter((name) => name.startsWith('fog'))).toEqual(['fog_1_1of2']);
  expect(readdirSync(at('kd-2')).filter((name) => name.startsWith('fog'))).toEqual(['fog_1_2of2']);
  for (const bag of ['kd-1/fog_1_1of2', 'kd-2/fog_1_2of2']) {
    for (const list of ['manifest-sha512.txt', 'tagmanifest-sha512.txt'])
      execFileSync('sha512sum', ['--strict', '--quiet', '-c', list], { cwd: at(bag) });
    expect(readFileSync(at(bag, 'README.txt'), 'utf8')).toMatch(/This is part [12] of 2\. The others are/);
    expect(readFileSync(at(bag, 'bag-info.txt'), 'utf8')).toMatch(/Bag-Group-Identifier: fog_1\nBag-Count: [12] of 2/);
  }
  // Put together they are one, as they say.
  cpSync(at('kd-1/fog_1_1of2/data'), at('together'), { recursive: true });
  cpSync(at('kd-2/fog_1_2of2/data'), at('together'), { recursive: true });
  const document = readFileSync(at('together/documents/fog.otio'), 'utf8');
  const named = [...document.matchAll(/"target_url": "([^"]+)"/g)].map(([, url]) => url!);
  expect(new Set(named).size).toBe(CLIPS.length);
  for (const url of named) expect(existsSync(at('together/documents', decodeURIComponent(url)))).toBe(true);
  const [row] = await archiveRows(site.db);
  expect(row).toMatchObject({ state: 'sealed', files: 7, copies: [{ state: 'good' }], short: '1 of 2 copies' });
  expect(row!.copies[0]!.carriers.map((one) => one.name)).toEqual(['kd-1', 'kd-2']);
  const layers = (await carrierRows(site.db)).map((carrier) => carrier.layers.map((layer) => layer.folder));
  expect(layers).toEqual([['fog_1_1of2'], ['fog_1_2of2']]);
});

test.each(['folder', 'tar', 'zip'] as const)(
  'over two small carriers and whole on a large one, as %s, a project comes back from either',
  async (pack) => {
    const large = await site.carrier('kd-0', LARGE);
    const id = await archive([large, ...(await smalls('kd-1', 'kd-2'))], { pack });
    const copies = await site.db.select().from(archiveCopies);
    expect(copies.map((copy) => copy.state)).toEqual(['good', 'good']);
    expect((await restore(id, 'back')).state).toBe('done');
    expect(restoredClips('back')).toEqual(CLIPS);
    // The large one goes away: the two small ones hold all of it.
    await site.db.update(copyParts).set({ state: 'ended early' }).where(eq(copyParts.carrierId, large));
    await site.db.update(archiveCopies).set({ state: 'ended early' }).where(eq(archiveCopies.id, copies[0]!.id));
    expect((await restore(id, 'back-2')).state).toBe('done');
    expect(restoredClips('back-2')).toEqual(CLIPS);
  },
);

test('originals go where every part of them is proven, and what lies in a damaged part stays', async () => {
  const id = await archive(await smalls('kd-1', 'kd-2'));
  const victim = at('kd-2/fog_1_2of2/data/media/Rushes/f.mov');
  writeFileSync(victim, Buffer.alloc(200_005, 'x'));
  await addOriginalsRemoval(site.db, id, new Date());
  await run();
  const second = await site.db.select().from(archiveFiles);
  const parts = await site.db.select().from(archiveParts).orderBy(archiveParts.ord);
  for (const file of second.filter((one) => one.role === 'media'))
    expect({ path: file.path, there: existsSync(at('media', file.path)) }).toEqual({
      path: file.path,
      there: file.partId === parts[1]!.id,
    });
  const held = (await site.db.select().from(stepItems).where(eq(stepItems.state, 'held'))).map((item) => item.reason);
  expect(held).toEqual(Array(3).fill('copy damaged'));
});

test('a file that is damaged on one copy is taken from the other, and it is told', async () => {
  const large = await site.carrier('kd-0', LARGE);
  const id = await archive([large, ...(await smalls('kd-1', 'kd-2'))]);
  // Each copy has a damage of its own: every file is whole somewhere.
  const rot = (folder: string, clip: string) => {
    const from = readdirSync(at(folder)).find((name) => name.startsWith('fog'))!;
    const place = at(folder, from, 'data/media/Rushes', `${clip}.mov`);
    if (existsSync(place)) writeFileSync(place, Buffer.alloc(200_000 + CLIPS.indexOf(clip), '!'));
    return existsSync(place);
  };
  expect(rot('kd-0', 'a')).toBe(true);
  expect([rot('kd-1', 'f'), rot('kd-2', 'f')]).toContain(true);
  // Other copies are read where the same worker is known to reach them.
  const worker = site.worker();
  await until(async () => (await site.db.select().from(workerReach)).length === 4);
  expect(await restore(id, 'back')).toMatchObject({ state: 'done', trouble: null });
  await worker.stop();
  expect(restoredClips('back')).toEqual(CLIPS);
  const receipt = (await site.db.select().from(receipts)).find((one) => one.action === 'project restored')!;
  expect(receipt.facts.damagedCopies).toEqual([expect.stringMatching(/a\.mov is not what was sealed on kd-0/)]);
  expect((await site.db.select().from(archiveCopies))[0]!.state).toBe('damaged');
});

test('where every copy of a file is damaged nothing is restored', async () => {
  const id = await archive(await smalls('kd-1', 'kd-2'));
  writeFileSync(at('kd-1/fog_1_1of2/data/media/Rushes/a.mov'), Buffer.alloc(200_000, 'x'));
  const ended = await restore(id, 'back');
  expect(ended.state).toBe('failed');
  expect(ended.trouble).toMatch(/damaged: .*a\.mov is not what was sealed on kd-1\. Nothing was restored/);
  expect(existsSync(at('media/back'))).toBe(false);
});

test('a copy over two carriers is read back from both', async () => {
  const id = await archive(await smalls('kd-1', 'kd-2'));
  const by = { who: 'Mara', now: new Date() };
  expect(await askToReadBackAll(site.db, id, by)).toEqual(['kd-1', 'kd-2']);
  expect(await site.workOff()).toMatchObject({ state: 'done' });
  rmSync(at('kd-2/fog_1_2of2/data/media/Rushes/f.mov'));
  await askToReadBackAll(site.db, id, by);
  expect((await site.workOff()).trouble).toMatch(/is damaged: .*f\.mov on kd-2/);
});

test('carriers that do not hold it together are told in the plan, and nothing is written', async () => {
  const ids = [await site.carrier('kd-1', 16_300_000), await site.carrier('kd-2', 16_300_000)];
  await add(ids);
  expect((await findings()).filter((one) => one.weight === 'stop').map((one) => one.code)).toContain(
    'carrier too small',
  );
  const plan = await currentPlan(site.db);
  const outcome = await runPlan(site.db, {
    ...{ planId: plan.planId as never, version: plan.version, who: 'Mara', now: new Date() },
  });
  expect(outcome.ok).toBe(false);
});

test('a carrier that shrank between plan and run is refused in a sentence', async () => {
  const ids = await smalls('kd-1', 'kd-2');
  await add(ids);
  await site.runPlan();
  await site.db.update(carriers).set({ capacityBytes: 16_300_000 }).where(eq(carriers.id, ids[1]!));
  const ended = await site.workOff();
  expect(ended.state).toBe('failed');
  expect(ended.trouble).toMatch(/kd-1 and kd-2 together do not hold it: .* Nothing was written/);
  expect((await site.db.select().from(archives))[0]!.state).toBe('ended early');
});

test('no part gets its name before all can: a name that is taken on one carrier leaves nothing on the other', async () => {
  await add(await smalls('kd-1', 'kd-2'));
  await site.runPlan();
  site.put('kd-2/fog_1_2of2/somebody', 'else');
  const ended = await site.workOff();
  expect(ended.trouble).toMatch(/kd-2 has something named fog_1_2of2 already, and nothing is ever written over/);
  expect(readdirSync(at('kd-1')).filter((name) => name.includes('fog'))).toEqual([]);
  expect(readFileSync(at('kd-2/fog_1_2of2/somebody'), 'utf8')).toBe('else');
  expect((await archiveRows(site.db)).filter((row) => row.state === 'sealed')).toEqual([]);
});

const stepBytes = async () => (await currentPlan(site.db)).steps.map((step) => step.bytes);

test('an archive that builds on an earlier one writes only what is new, and gives all of it back', async () => {
  const [kd1, kd2] = [await site.carrier('kd-1'), await site.carrier('kd-2')];
  const first = await archive([kd1], { folder: 'before' });
  site.put('media/fog/rushes/b.mov', Buffer.alloc(210_000, 'B'));
  site.put('media/fog/rushes/g.mov', Buffer.alloc(100_000, 'g'));
  await writeDocument([...CLIPS, 'g']);
  await add([kd2], { folder: 'after', baseId: first });
  const [document] = await site.db.select().from(documents);
  expect(document).toBeDefined();
  const [planned] = await stepBytes();
  expect(planned).toBeGreaterThan(310_000);
  expect(planned).toBeLessThan(360_000);
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  expect(readdirSync(at('kd-2/after/data/media/Rushes'))).toEqual(['b.mov', 'g.mov']);
  execFileSync('sha512sum', ['--strict', '--quiet', '-c', 'manifest-sha512.txt'], { cwd: at('kd-2/after') });
  expect(readFileSync(at('kd-2/after/README.txt'), 'utf8')).toMatch(
    /It builds on an earlier archive, which holds\n\n {2}before: 5 files/,
  );
  const contents = JSON.parse(readFileSync(at('kd-2/after/keramion-archive.json'), 'utf8')) as {
    elsewhere: { folder: string; files: object[] }[];
  };
  expect(contents.elsewhere).toMatchObject([{ folder: 'before', files: { length: 5 } }]);
  const [row] = await archiveRows(site.db);
  expect(row).toMatchObject({ folder: 'after', buildsOn: 'before', files: 8 });
  expect((await carrierRows(site.db)).find((one) => one.name === 'kd-2')!.usedBytes).toBeLessThan(370_000);
  expect((await restore(row!.archiveId, 'back')).state).toBe('done');
  expect(restoredClips('back')).toEqual(['a', 'B', 'c', 'd', 'e', 'f', 'g']);
  const document2 = readFileSync(at('media/back/documents/fog.otio'), 'utf8');
  for (const [, url] of document2.matchAll(/"target_url": "([^"]+)"/g))
    expect(existsSync(decodeURIComponent(url!.replace('file://', '')))).toBe(true);
});

test('what it leaves to the earlier archive is held by it: without a good copy of that it is not built, nor restored', async () => {
  const [kd1, kd2] = [await site.carrier('kd-1'), await site.carrier('kd-2')];
  const first = await archive([kd1], { folder: 'before' });
  const second = await archive([kd2], { folder: 'after', baseId: first });
  expect((await archiveRows(site.db))[0]).toMatchObject({ folder: 'after', short: '1 of 2 copies' });
  await site.db.update(copyParts).set({ state: 'damaged' }).where(eq(copyParts.carrierId, kd1));
  await site.db.update(archiveCopies).set({ state: 'damaged' }).where(eq(archiveCopies.archiveId, first));
  await expect(restore(second, 'back')).rejects.toThrow(/has no good copy, so it cannot be brought back whole/);
  await expect(add([kd2], { folder: 'third', baseId: second })).rejects.toThrow(/no sealed archive .* good copy/);
});

test('originals may go on the word of both archives together, each read back where it lies', async () => {
  const [kd1, kd2] = [await site.carrier('kd-1'), await site.carrier('kd-2')];
  const first = await archive([kd1], { folder: 'before' });
  site.put('media/fog/rushes/g.mov', Buffer.alloc(100_000, 'g'));
  await writeDocument([...CLIPS, 'g']);
  const second = await archive([kd2], { folder: 'after', baseId: first });
  await addOriginalsRemoval(site.db, second, new Date());
  await run();
  expect(readdirSync(at('media/fog/rushes'))).toEqual([]);
  expect((await restore(second, 'back')).state).toBe('done');
  expect(restoredClips('back')).toEqual([...CLIPS, 'g']);
});

test('ranges that an earlier archive holds are not written again, and what is new is cut as it was asked', async () => {
  const [kd1, kd2] = [await site.carrier('kd-1'), await site.carrier('kd-2')];
  const sounds = ['one', 'two'].map((name, i) => {
    site.put(`media/fog/rushes/${name}.wav`, wav(20_000 + i * 1000, i + 1));
    return `rushes/${name}.wav`;
  });
  site.put('media/fog/fog.otio', otio('Fog', sounds));
  await site.read(volume);
  const scope = { ...USUAL_SCOPE, parts: [], handles: { value: 2, unit: 'frames' as const, gapSeconds: 0 } };
  const first = await archive([kd1], { folder: 'before', scope });
  site.put('media/fog/rushes/three.wav', wav(24_000, 3));
  site.put('media/fog/fog.otio', otio('Fog', [...sounds, 'rushes/three.wav']));
  await site.read(volume);
  await add([kd2], { folder: 'after', scope, baseId: first });
  await site.workOff();
  const [planned] = await stepBytes();
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  const written = readdirSync(at('kd-2/after/data/media/Rushes'));
  expect(written).toEqual([expect.stringMatching(/^three_f\d+\.wav$/)]);
  const bytes = statSync(at('kd-2/after/data/media/Rushes', written[0]!)).size;
  expect(planned! - bytes).toBeLessThan(20_000);
  const rows = await site.db.select().from(archiveFiles);
  expect(rows.filter((file) => file.role === 'media')).toEqual([]);
  expect((await restore(2 as ArchiveId, 'back')).state).toBe('done');
  expect(readdirSync(at('media/back/media/Rushes'))).toHaveLength(3);
});

test('another copy of the earlier archive stands for the later one as well', async () => {
  const [kd1, kd2] = [await site.carrier('kd-1'), await site.carrier('kd-2')];
  const first = await archive([kd1], { folder: 'before' });
  site.put('media/fog/rushes/g.mov', Buffer.alloc(100_000, 'g'));
  await writeDocument([...CLIPS, 'g']);
  const second = await archive([kd2], { folder: 'after', baseId: first });
  await addCopy(site.db, { archiveId: first, carrierIds: [await site.carrier('kd-3')], now: new Date() });
  expect(await run()).toMatchObject({ state: 'done', trouble: null });
  await site.db.update(copyParts).set({ state: 'damaged' }).where(eq(copyParts.carrierId, kd1));
  await addOriginalsRemoval(site.db, second, new Date());
  await run();
  expect(readdirSync(at('media/fog/rushes'))).toEqual([]);
  expect((await restore(second, 'back')).state).toBe('done');
  expect(restoredClips('back')).toEqual([...CLIPS, 'g']);
});

test('a file that changes between plan and run is not left to the earlier archive', async () => {
  const [kd1, kd2] = [await site.carrier('kd-1'), await site.carrier('kd-2')];
  const first = await archive([kd1], { folder: 'before' });
  await add([kd2], { folder: 'after', baseId: first });
  await site.runPlan();
  writeFileSync(at('media/fog/rushes/c.mov'), Buffer.alloc(200_002, 'C'));
  await site.workOff();
  const after = (await site.db.select().from(archives)).at(-1)!;
  // It stays out and is told, as any file that changed: nobody takes the old one for it.
  expect(after).toMatchObject({ state: 'sealed', gaps: 1 });
  expect(readFileSync(at('kd-2/after/README.txt'), 'utf8')).toMatch(/Could not go in\n\n {2}.*c\.mov/);
  const held = await site.db.select().from(archiveFiles).where(eq(archiveFiles.archiveId, after.id));
  expect(held.map((file) => path.basename(file.path))).not.toContain('c.mov');
});

test('the plan says that an earlier archive holds most of it', async () => {
  const [kd1, kd2] = [await site.carrier('kd-1'), await site.carrier('kd-2')];
  await archive([kd1], { folder: 'before' });
  await add([kd2], { folder: 'again' });
  expect(await findings()).toContainEqual({
    ...{ code: 'earlier archive', weight: 'note' },
    facts: { project: 'Fog', base: 'before', files: 6, bytes: 1_200_015 },
  });
});
