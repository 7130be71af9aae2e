// Tries to make archiving and restoring lose something, or say something untrue.
import { execFileSync } from 'node:child_process';
import {
  appendFileSync,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmSync,
  symlinkSync,
  utimesSync,
  writeFileSync,
} from 'node:fs';
import path from 'node:path';
import { eq, isNotNull, sql } from 'drizzle-orm';
import { USUAL_SCOPE } from '#core/archive/selection.ts';
import type { ArchiveId, CarrierId, JobId, PlanId, ProjectId, VolumeId } from '#core/model.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { archiveCopies, archives, copyParts } from '../db/schema/archives.ts';
import { files } from '../db/schema/catalogue.ts';
import { jobs } from '../db/schema/jobs.ts';
import { stepItems } from '../db/schema/plans.ts';
import { projects } from '../db/schema/projects.ts';
import { receipts } from '../db/schema/receipts.ts';
import { carriers, volumes } from '../db/schema/stores.ts';
import { currentPlan, findingsOf, runPlan } from '../plan/plan.ts';
import { addArchive } from './archive.ts';
import { addOriginalsRemoval } from './remove-originals.ts';
import { addRestore } from './restore.ts';
import { fileFacts } from '../projects/ownership.ts';
import { projectRows } from '../projects/projects.ts';
import { answerQuestion } from '../runtime/questions.ts';
import { cancelJob } from '../runtime/queue.ts';
import { jobRows } from '../site/work.ts';

let site: TestSite;
let volume: VolumeId;
let carrier: CarrierId;

beforeEach(async () => {
  site = await TestSite.open();
  volume = await site.volume('media');
  carrier = await site.carrier('kd-1');
  site.put('media/fog/rushes/a.mov', Buffer.alloc(300_000, 'a'));
  site.put('media/fog/rushes/b % ü.mov', 'bbbb');
  site.put('media/fog/other/a.mov', 'another of the same name');
  site.put('media/fog/rushes/unused.mov', 'unused');
  site.put(
    'media/fog/fog.otio',
    otio(
      'Fog',
      ['rushes/a.mov', 'rushes/b%20%25%20%C3%BC.mov', 'other/a.mov', 'rushes/unused.mov'],
      ['rushes/a.mov', 'rushes/b%20%25%20%C3%BC.mov', 'other/a.mov'],
    ),
  );
  await site.read(volume);
});
afterEach(() => site.close());

const FOG = 1 as ProjectId;
const bag = (...parts: string[]) => path.join(site.root, 'kd-1', 'fog_1', ...parts);
const stage = (folder = 'fog_1', scope = USUAL_SCOPE) =>
  addArchive(site.db, { projectId: FOG, carrierIds: [carrier], folder, scope, now: new Date() });
async function askToRun() {
  const plan = await currentPlan(site.db);
  const asked = { planId: plan.planId as PlanId, version: plan.version, who: 'Mara', now: new Date() };
  return runPlan(site.db, asked);
}
async function workOff() {
  await site.workOff();
  const all = await site.db.select().from(jobs).where(isNotNull(jobs.stepId)).orderBy(jobs.id);
  return all.at(-1)!;
}
async function runAll() {
  expect(await askToRun()).toMatchObject({ ok: true });
  return workOff();
}
async function archiveFog() {
  await stage();
  expect(await runAll()).toMatchObject({ state: 'done', trouble: null });
}
async function restoreTo(folder: string) {
  const [copy] = await site.db.select().from(archiveCopies);
  await addRestore(site.db, {
    archiveId: 1 as ArchiveId,
    copyId: copy!.id,
    volumeId: volume,
    folder,
    now: new Date(),
  });
  return runAll();
}
const filesBelow = (folder: string) =>
  readdirSync(folder, { recursive: true, withFileTypes: true })
    .filter((e) => e.isFile())
    .map((e) => path.relative(folder, path.join(e.parentPath, e.name)))
    .sort();

test('sidecars and the other pieces of a recording go in whole with what timelines use', async () => {
  site.put('media/fog/rushes/a.xml', '<about a/>');
  site.put('media/fog/rushes/unused.xml', '<about what no timeline uses/>');
  site.put('media/fog/rushes/C0001_001.mov', Buffer.alloc(9000, 'c'));
  site.put('media/fog/rushes/C0001_002.mov', Buffer.alloc(8000, 'd'));
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/a.mov', 'rushes/C0001_001.mov']));
  await site.read(volume);
  await archiveFog();
  expect(filesBelow(bag('data/media'))).toEqual([
    'Rushes/C0001_001.mov',
    'Rushes/C0001_002.mov',
    'Rushes/a.mov',
    'Rushes/a.xml',
  ]);
  execFileSync('sha512sum', ['--quiet', '--strict', '-c', 'manifest-sha512.txt'], { cwd: bag() });
});

test('an archive is a bag that plain tools accept, laid out by bins, its document relinked inside', async () => {
  await archiveFog();
  expect(filesBelow(bag())).toEqual([
    'README.txt',
    expect.stringMatching(/^ascmhl\/0001_fog_1_[\d-]+_\d+Z\.mhl$/),
    'ascmhl/ascmhl_chain.xml',
    'bag-info.txt',
    'bagit.txt',
    'data/documents/fog.otio',
    'data/documents/fog.otio.original',
    'data/media/Rushes/a.mov',
    'data/media/Rushes/a~2.mov',
    'data/media/Rushes/b _ ü.mov',
    'index.html',
    'keramion-archive.json',
    'manifest-sha512.txt',
    'project.json',
    'tagmanifest-sha512.txt',
    'xxh64sum.txt',
  ]);
  execFileSync('sha512sum', ['--quiet', '--strict', '-c', 'manifest-sha512.txt'], { cwd: bag() });
  execFileSync('sha512sum', ['--quiet', '--strict', '-c', 'tagmanifest-sha512.txt'], { cwd: bag() });
  expect(readFileSync(bag('data/documents/fog.otio.original'))).toEqual(
    readFileSync(path.join(site.root, 'media/fog/fog.otio')),
  );
  const relinked = readFileSync(bag('data/documents/fog.otio'), 'utf8');
  expect(relinked).toContain('"target_url": "../media/Rushes/b%20_%20%C3%BC.mov"');
  // What stayed out is missing by its name; no reference leads out of the archive.
  expect(relinked).toContain('"target_url": "../media/not%20in%20this%20archive/unused.mov"');
  const oxum = /Payload-Oxum: (\d+)\.(\d+)/.exec(readFileSync(bag('bag-info.txt'), 'utf8'))!;
  const payload = filesBelow(bag('data'));
  expect(Number(oxum[2])).toBe(payload.length);
  expect(Number(oxum[1])).toBe(payload.reduce((sum, name) => sum + readFileSync(bag('data', name)).length, 0));
  expect(await site.db.select({ state: archives.state }).from(archives)).toEqual([{ state: 'sealed' }]);
  expect(existsSync(path.join(site.root, 'media/fog/rushes/a.mov'))).toBe(true);
});

test('a file that is gone or changed when it is its turn stays out, and the archive says so wherever it is looked at', async () => {
  await stage();
  rmSync(path.join(site.root, 'media/fog/other/a.mov'));
  appendFileSync(path.join(site.root, 'media/fog/rushes/b % ü.mov'), 'more');
  expect(await runAll()).toMatchObject({ state: 'done', trouble: null });
  expect(filesBelow(bag('data/media'))).toEqual(['Rushes/a~2.mov']);
  execFileSync('sha512sum', ['--quiet', '--strict', '-c', 'manifest-sha512.txt'], { cwd: bag() });
  const readme = readFileSync(bag('README.txt'), 'utf8');
  expect(readme).toContain('fog/other/a.mov: it was already gone');
  expect(readme).toContain('fog/rushes/b % ü.mov: it changed after it was chosen');
  expect(JSON.parse(readFileSync(bag('keramion-archive.json'), 'utf8'))).toMatchObject({ couldNotGoIn: [{}, {}] });
  expect(readFileSync(bag('data/documents/fog.otio'), 'utf8')).toContain('../media/not%20in%20this%20archive/b%20_');
  const [archive] = await site.db.select().from(archives);
  expect(archive).toMatchObject({ state: 'sealed', gaps: 2, files: 2 });
  const [receipt] = await site.db.select().from(receipts).where(eq(receipts.action, 'archive sealed'));
  expect(receipt).toMatchObject({ files: 2, held: 2, facts: { held: { gone: 1, changed: 1 } } });
  // Nothing is offered of what is not in it.
  await addOriginalsRemoval(site.db, 1 as ArchiveId, new Date());
  expect(await runAll()).toMatchObject({ state: 'done' });
  expect(existsSync(path.join(site.root, 'media/fog/rushes/b % ü.mov'))).toBe(true);
});

test('a document that was saved in between ends the work: nobody could open the rest without it', async () => {
  await stage();
  appendFileSync(path.join(site.root, 'media/fog/fog.otio'), ' ');
  const job = await runAll();
  expect(job).toMatchObject({ state: 'failed' });
  expect(job.trouble).toContain('fog/fog.otio cannot go in: it changed after it was chosen');
  expect(filesBelow(path.join(site.root, 'kd-1')).filter((name) => !name.endsWith('identity.json'))).toEqual([]);
});

test('where most of it is gone something else is wrong than files, and nothing is sealed', async () => {
  await stage();
  for (const folder of ['rushes', 'other'])
    renameSync(path.join(site.root, 'media/fog', folder), path.join(site.root, 'media', folder));
  const job = await runAll();
  expect(job.state).toBe('failed');
  expect(job.trouble).toMatch(/3 files could not go in, the last because it was already gone\. Nothing was sealed/);
  expect(filesBelow(path.join(site.root, 'kd-1')).filter((name) => !name.endsWith('identity.json'))).toEqual([]);
});

/** What the work asks, as the tray shows it. */
const question = async () => (await jobRows(site.db)).find((job) => job.question)?.question ?? null;
const reply = (questionId: number, answer: 'leave out' | 'try again') =>
  answerQuestion(site.db, { questionId, answer, who: 'Mara', now: new Date() });

test('a file that changed is asked about; what is written waits, and is thrown away where the work is cancelled', async () => {
  await stage('fog_1', { ...USUAL_SCOPE, goOn: false });
  appendFileSync(path.join(site.root, 'media/fog/rushes/a.mov'), 'more');
  expect(await runAll()).toMatchObject({ state: 'queued', finishedAt: null });
  const asked = (await question())!;
  expect(asked).toMatchObject({ path: 'fog/rushes/a.mov', reason: 'changed' });
  expect(filesBelow(path.join(site.root, 'kd-1')).filter((name) => !name.endsWith('identity.json'))).not.toEqual([]);
  await expect(reply(asked.questionId, 'try again')).rejects.toThrow('trying again says the same');
  // Nobody takes it before there is an answer.
  const { attempts } = await workOff();
  expect(await workOff()).toMatchObject({ state: 'queued', finishedAt: null, attempts });
  await cancelJob(site.db, asked.jobId as JobId);
  expect(await workOff()).toMatchObject({ state: 'cancelled' });
  await expect(reply(asked.questionId, 'leave out')).rejects.toThrow('the work has ended');
  expect(await question()).toBeNull();
  expect(filesBelow(path.join(site.root, 'kd-1')).filter((name) => !name.endsWith('identity.json'))).toEqual([]);
  expect(await site.db.select({ state: archives.state }).from(archives)).toEqual([{ state: 'ended early' }]);
  expect(await site.db.select().from(receipts)).toMatchObject([{ action: 'work ended early', files: 0, bytes: 0 }]);
});

test('what is left out by an answer is named in the archive, and one that is there again goes in', async () => {
  const at = (inside: string) => path.join(site.root, 'media', inside);
  await stage('fog_1', { ...USUAL_SCOPE, goOn: false });
  rmSync(at('fog/rushes/a.mov'));
  renameSync(at('fog/other'), at('elsewhere'));
  await runAll();
  const asked: string[] = [];
  const answer = async (whenGone: 'leave out' | 'try again') => {
    const { questionId, path: of, reason } = (await question())!;
    asked.push(`${of} ${reason}`);
    const said = of.endsWith('rushes/a.mov') ? 'leave out' : whenGone;
    await reply(questionId, said);
    await expect(reply(questionId, 'leave out')).rejects.toThrow('answered already');
    await workOff();
    return said;
  };
  // Tried again while it is still away, it is asked about again.
  for (let n = 0; n < 2; n++) await answer('try again');
  renameSync(at('elsewhere'), at('fog/other'));
  while (await question()) await answer('try again');
  expect(new Set(asked)).toEqual(new Set(['fog/rushes/a.mov gone', 'fog/other/a.mov gone']));
  expect(asked.filter((one) => one.startsWith('fog/rushes'))).toHaveLength(1);
  expect(await workOff()).toMatchObject({ state: 'done', trouble: null });
  expect(await site.db.select({ state: archives.state }).from(archives)).toEqual([{ state: 'sealed' }]);
  const sealed = filesBelow(bag('data')).map((name) => readFileSync(bag('data', name), 'utf8'));
  expect(sealed).toContain('another of the same name');
  expect(readFileSync(bag('README.txt'), 'utf8')).toContain('a.mov');
  const [receipt] = await site.db.select().from(receipts);
  expect(receipt).toMatchObject({ action: 'archive sealed', held: 1, facts: { held: { gone: 1 } } });
  execFileSync('sha512sum', ['--quiet', '--strict', '-c', 'manifest-sha512.txt'], { cwd: bag() });
});

test('originals are not let go before a copy was read back', async () => {
  await expect(addOriginalsRemoval(site.db, 1 as ArchiveId, new Date())).rejects.toThrow('There is no such archive');
  await archiveFog();
  await site.db.update(copyParts).set({ state: 'damaged' });
  await expect(addOriginalsRemoval(site.db, 1 as ArchiveId, new Date())).rejects.toThrow(
    'No copy of Fog has been read back',
  );
});

test('a copy that turns bad between plan and run stops the plan, and holds every original of one that runs', async () => {
  await archiveFog();
  await addOriginalsRemoval(site.db, 1 as ArchiveId, new Date());
  await site.db.update(copyParts).set({ state: 'damaged' });
  expect(await askToRun()).toMatchObject({
    ok: false,
    trouble: { findings: [{ code: 'copy not good', facts: { why: 'The copy on kd-1 is damaged.' } }] },
  });
  await site.db.update(copyParts).set({ state: 'good' });
  expect(await askToRun()).toMatchObject({ ok: true });
  await site.db.update(copyParts).set({ state: 'damaged' });
  await workOff();
  const items = await site.db.select().from(stepItems).where(eq(stepItems.stepId, 2));
  expect(items).toHaveLength(4);
  expect(items.every((item) => item.state === 'held' && item.reason === 'no good copy')).toBe(true);
  expect(existsSync(path.join(site.root, 'media/fog/rushes/a.mov'))).toBe(true);
  // Everything was held, so the project is not archived.
  expect((await site.db.select().from(projects))[0]!.state).not.toBe('archived');
});

test('an original that another project borrows stays, and so does one that changed', async () => {
  await archiveFog();
  site.put('media/mist/mist.otio', otio('Mist', ['../fog/rushes/a.mov']));
  await site.read(volume);
  await addOriginalsRemoval(site.db, 1 as ArchiveId, new Date());
  utimesSync(path.join(site.root, 'media/fog/other/a.mov'), 1, 1);
  await runAll();
  const items = await site.db
    .select({ path: stepItems.path, state: stepItems.state, reason: stepItems.reason })
    .from(stepItems)
    .where(eq(stepItems.stepId, 2))
    .orderBy(stepItems.path);
  expect(items).toEqual([
    { path: 'fog/fog.otio', state: 'done', reason: null },
    { path: 'fog/other/a.mov', state: 'held', reason: 'changed' },
    { path: 'fog/rushes/a.mov', state: 'held', reason: 'in use' },
    { path: 'fog/rushes/b % ü.mov', state: 'done', reason: null },
  ]);
});

test('archived, removed and restored, the project is known again with nothing missing and every byte the same', async () => {
  const before = readFileSync(path.join(site.root, 'media/fog/rushes/a.mov'));
  await archiveFog();
  await addOriginalsRemoval(site.db, 1 as ArchiveId, new Date());
  await runAll();
  expect(existsSync(path.join(site.root, 'media/fog/rushes/a.mov'))).toBe(false);
  expect(existsSync(path.join(site.root, 'media/fog/rushes/unused.mov'))).toBe(true);
  expect((await restoreTo('fog back')).state).toBe('done');
  // Of two of one name the one whose path comes first keeps it.
  expect(readFileSync(path.join(site.root, 'media/fog back/media/Rushes/a~2.mov')).equals(before)).toBe(true);
  const [project] = await projectRows(site.db);
  // The unused one was not archived; the document still names it, relative to where it was.
  expect(project).toMatchObject({ name: 'Fog', media: 4, missing: 1 });
  expect(await site.db.select().from(projects)).toHaveLength(1);
  expect((await site.db.select({ action: receipts.action }).from(receipts)).map((r) => r.action)).toEqual([
    'archive sealed',
    'originals removed',
    'project restored',
  ]);
});

test('what comes back keeps the kinds it was sealed as, whatever its volume is for, and says why', async () => {
  await archiveFog();
  const renders = await site.volume('renders', 'renders');
  await site.read(renders);
  await addRestore(site.db, {
    archiveId: 1 as ArchiveId,
    copyId: (await site.db.select().from(archiveCopies))[0]!.id,
    volumeId: renders,
    folder: 'fog back',
    now: new Date(),
  });
  await runAll();
  const back = () =>
    site.db
      .select({ id: files.id, name: files.name, kind: files.kind })
      .from(files)
      .where(sql`${files.volumeId} = ${renders} AND ${files.goneAt} IS NULL AND ${files.name} LIKE '%.mov'`)
      .orderBy(files.name);
  expect((await back()).map((file) => file.kind)).toEqual(['source', 'source', 'source']);
  expect(await fileFacts(site.db, (await back())[0]!.id)).toMatchObject({
    kindReason: 'as it was sealed in the archive of Fog',
  });
  // Also after a later reading, and where the rules of the house change.
  site.put('renders/fog back/media/Rushes/new.mov');
  site.put('renders/other.mov');
  await site.read(renders);
  expect((await back()).map((file) => [file.name, file.kind]).filter(([, kind]) => kind !== 'source')).toEqual([
    ['other.mov', 'render'],
  ]);
});

test('a restore never writes over something, nor to a place outside', async () => {
  await archiveFog();
  mkdirSync(path.join(site.root, 'media/here'));
  writeFileSync(path.join(site.root, 'media/here/mine.txt'), 'mine');
  const job = await restoreTo('here');
  expect(job.trouble).toContain('media has something named here already, and nothing is ever written over');
  expect(filesBelow(path.join(site.root, 'media/here'))).toEqual(['mine.txt']);
  mkdirSync(path.join(site.root, 'elsewhere'));
  symlinkSync(path.join(site.root, 'elsewhere'), path.join(site.root, 'media/link'));
  expect((await restoreTo('link/escaped')).state).toBe('failed');
  expect(filesBelow(path.join(site.root, 'elsewhere'))).toEqual([]);
  const climbing = await restoreTo('../escaped');
  expect(climbing.state).toBe('failed');
  expect(existsSync(path.join(site.root, 'escaped'))).toBe(false);
});

describe('a damaged copy is told apart, and nothing of it is restored', () => {
  const cases: [what: string, damage: () => void, words: RegExp][] = [
    [
      'a byte of the media',
      () => writeFileSync(bag('data/media/Rushes/a~2.mov'), 'Another of the same name'),
      /data\/media\/Rushes\/a~2\.mov is not what was sealed/,
    ],
    ['a file that is missing', () => rmSync(bag('data/media/Rushes/a.mov')), /a\.mov cannot be read \(ENOENT\)/],
    [
      'a wrong line in the manifest',
      () => appendFileSync(bag('manifest-sha512.txt'), 'nonsense\n'),
      /manifest-sha512\.txt is not what was sealed/,
    ],
    [
      'a tag manifest that was written anew',
      () => appendFileSync(bag('tagmanifest-sha512.txt'), '\n'),
      /tagmanifest-sha512\.txt is not the one that was sealed/,
    ],
  ];
  test.each(cases)('%s', async (_what, damage, words) => {
    await archiveFog();
    damage();
    const job = await restoreTo('fog back');
    expect(job.state).toBe('failed');
    expect(job.trouble).toMatch(words);
    expect(existsSync(path.join(site.root, 'media/fog back'))).toBe(false);
    expect(filesBelow(path.join(site.root, 'media/.keramion'))).toEqual(['identity.json']);
  });
});

test('a carrier that is too small is told before the run, and refused by the run itself', async () => {
  const small = await site.carrier('kd-2', 100_000);
  await addArchive(site.db, { projectId: FOG, carrierIds: [small], folder: 'fog_1', now: new Date() });
  expect(await findingsOf(site.db, (await currentPlan(site.db)).steps)).toMatchObject([
    { code: 'carrier too small', weight: 'stop', facts: { carrier: 'kd-2', freeBytes: 100_000 } },
    { code: 'renamed in the archive' },
  ]);
  expect(await askToRun()).toMatchObject({ ok: false, trouble: { code: 'stopped by findings' } });
  // Room went between the plan and the work.
  await site.db.update(carriers).set({ capacityBytes: 1_000_000_000 }).where(eq(carriers.id, small));
  expect(await askToRun()).toMatchObject({ ok: true });
  await site.db.update(carriers).set({ capacityBytes: 100_000 }).where(eq(carriers.id, small));
  expect((await workOff()).trouble).toMatch(/kd-2 has 100 kB free and .* is needed. Nothing was written./);
  expect(existsSync(path.join(site.root, 'kd-2/fog_1'))).toBe(false);
});

test('a volume without room is told before a restore, and nothing is written', async () => {
  await archiveFog();
  await site.db.update(volumes).set({ quota: true, capacityBytes: 400_000 });
  const [copy] = await site.db.select().from(archiveCopies);
  await addRestore(site.db, {
    archiveId: 1 as ArchiveId,
    copyId: copy!.id,
    volumeId: volume,
    folder: 'back',
    now: new Date(),
  });
  expect(await findingsOf(site.db, (await currentPlan(site.db)).steps)).toMatchObject([
    { code: 'volume too full', weight: 'stop' },
  ]);
  expect(await askToRun()).toMatchObject({ ok: false, trouble: { code: 'stopped by findings' } });
  await site.db.update(volumes).set({ capacityBytes: 1_000_000_000 });
  expect(await askToRun()).toMatchObject({ ok: true });
  await site.db.update(volumes).set({ capacityBytes: 400_000 });
  expect((await workOff()).trouble).toMatch(/media has .* free and .* is needed. Nothing was restored./);
  expect(existsSync(path.join(site.root, 'media/back'))).toBe(false);
});

test('a folder of the same name on the carrier is never written into', async () => {
  mkdirSync(bag(), { recursive: true });
  writeFileSync(bag('mine.txt'), 'mine');
  await stage();
  const job = await runAll();
  expect(job.trouble).toContain('kd-1 has something named fog_1 already, and nothing is ever written over');
  expect(filesBelow(bag())).toEqual(['mine.txt']);
});

test('an archive that is cancelled while it is written leaves nothing on the carrier, and everything else as it was', async () => {
  for (let i = 0; i < 40; i++) site.put(`media/fog/rushes/big${i}.mov`, Buffer.alloc(4_000_000, i));
  const urls = Array.from({ length: 40 }, (_, i) => `rushes/big${i}.mov`);
  site.put('media/fog/fog.otio', otio('Fog', urls));
  await site.read(volume);
  await stage();
  const plan = await currentPlan(site.db);
  const result = await runPlan(site.db, {
    planId: plan.planId as PlanId,
    version: plan.version,
    who: 'Mara',
    now: new Date(),
  });
  const worker = site.worker();
  await until(() => readdirSync(path.join(site.root, 'kd-1/.keramion')).some((name) => name.startsWith('archive.')));
  if (result.ok) await cancelJob(site.db, result.jobs[0]!);
  await until(async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null));
  await worker.stop();
  const [job] = await site.db.select().from(jobs);
  // Where the machine was faster than the click, the archive is whole: both are right, a half is not.
  if (job!.state === 'done') return expect(existsSync(bag('manifest-sha512.txt'))).toBe(true);
  expect([job!.state, job!.trouble]).toEqual(['cancelled', null]);
  expect(filesBelow(path.join(site.root, 'kd-1')).filter((name) => !name.endsWith('identity.json'))).toEqual([]);
  expect(await site.db.select({ state: archives.state }).from(archives)).toEqual([{ state: 'ended early' }]);
  for (const url of urls) expect(existsSync(path.join(site.root, 'media/fog', url))).toBe(true);
  // Staged anew, it goes through.
  await archiveFog();
});
