// Projects by hand: from a folder, from a template, their facts, their homes on disk; and whose a file is, with why.
import { existsSync, mkdirSync, symlinkSync } from 'node:fs';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import type { FolderId, ProjectId, VolumeId } from '#core/model.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { jobs } from '../db/schema/jobs.ts';
import { projects } from '../db/schema/projects.ts';
import { receipts } from '../db/schema/receipts.ts';
import { allStrays, homesInTrouble, projectHomes, setHome } from './homes.ts';
import { borrowedBy } from '../db/naming.ts';
import { fileFacts, ownerlessByVolume } from './ownership.ts';
import { projectMedia, projectRows, setState, statesOf } from './projects.ts';
import {
  changeProject,
  makeHomes,
  projectFromFolder,
  projectFromTemplate,
  saveTemplate,
  templateFrom,
  templateRows,
  titleTroubles,
} from './register-project.ts';

let site: TestSite;
let media: VolumeId;
let library: VolumeId;
const by = { who: 'Mara', now: new Date() };
const facts = (name: string) => ({ name, client: '', year: 2026, people: '', privateNotes: '', publicComments: '' });
beforeEach(async () => {
  site = await TestSite.open();
  media = await site.volume('media', 'source');
  library = await site.volume('library', 'library');
  site.put('library/music/bed.wav', Buffer.alloc(700));
  site.put('media/fog/rushes/a.mov', Buffer.alloc(4000));
  site.put('media/loose/b.mov', Buffer.alloc(500));
  site.put('media/old job/c.mov', Buffer.alloc(300));
  site.put(
    'media/docs/fog.otio',
    otio('Fog', ['../fog/rushes/a.mov', `file://${site.root}/library/music/bed.wav`, '../loose/b.mov']),
  );
  await site.read(library, media);
});
afterEach(() => site.close());

const folderId = async (at: string) => {
  const [row] = await site.db.select().from(folders).where(eq(folders.path, at));
  return row!.id as FolderId;
};
const fileId = async (name: string) => (await site.db.select().from(files).where(eq(files.name, name)))[0]!.id;
const idOf = async (name: string) =>
  (await site.db.select().from(projects).where(eq(projects.name, name)))[0]!.id as ProjectId;

test('a folder becomes a project with everything below it; a title or a folder is taken once', async () => {
  const id = await projectFromFolder(site.db, { folderId: await folderId('old job'), facts: facts('Old Job') }, by);
  expect((await projectRows(site.db)).find((row) => row.projectId === id)).toMatchObject({
    files: 1,
    bytes: 300,
    byKind: [{ kind: expect.any(String) as string, bytes: 300 }],
    state: 'in work',
  });
  expect(await fileFacts(site.db, await fileId('c.mov'))).toMatchObject({
    project: { name: 'Old Job' },
    reason: 'below old job: registered from this folder',
  });
  await expect(
    projectFromFolder(site.db, { folderId: await folderId('old job'), facts: facts('Again') }, by),
  ).rejects.toThrow(/belongs to Old Job already/);
  await expect(
    projectFromFolder(site.db, { folderId: await folderId('loose'), facts: facts('old_job') }, by),
  ).rejects.toThrow(/could not be told apart/);
  await expect(
    projectFromFolder(site.db, { folderId: await folderId('loose'), facts: facts('–––') }, by),
  ).rejects.toThrow(/no letter or digit/);
  expect((await site.db.select().from(receipts)).map((row) => row.action)).toEqual(['project added']);
});

test('whose a file is: by its folder, named by a document, everybody’s, or nobody’s', async () => {
  expect(await fileFacts(site.db, await fileId('a.mov'))).toMatchObject({
    project: { name: 'Fog' },
    reason: 'below fog: named after the project',
    borrowed: false,
    users: [{ name: 'Fog', timelines: 1, inTimelines: true }],
  });
  expect(await fileFacts(site.db, await fileId('b.mov'))).toMatchObject({
    project: { name: 'Fog' },
    reason: 'named by a document of the project',
  });
  expect(await fileFacts(site.db, await fileId('bed.wav'))).toMatchObject({
    kind: 'library',
    project: null,
    borrowed: false,
  });
  expect(await fileFacts(site.db, await fileId('c.mov'))).toMatchObject({ project: null });
  expect(await ownerlessByVolume(site.db)).toEqual([{ volumeId: media, files: 1, bytes: 300 }]);
  // A library never strays, and is nothing that could be unused.
  await setHome(site.db, await idOf('Fog'), { kind: 'source', volumeId: media, folder: '' }, by);
  expect(await allStrays(site.db)).toEqual([]);
});

test('what another project uses is borrowed and lent, and never unused', async () => {
  site.put('media/mist/mist.otio', otio('Mist', ['../fog/rushes/d.mov']));
  site.put('media/fog/rushes/d.mov', Buffer.alloc(800));
  site.put('media/docs/fog.otio', otio('Fog', ['../fog/rushes/a.mov', '../fog/rushes/d.mov'], ['../fog/rushes/a.mov']));
  await site.read(media);
  const [fog, mist] = [await idOf('Fog'), await idOf('Mist')];
  expect((await borrowedBy(site.db, mist)).borrowed).toMatchObject([
    { name: 'd.mov', owner: 'Fog', user: 'Mist', bytes: 800 },
  ]);
  expect((await borrowedBy(site.db, fog)).lent).toMatchObject([{ name: 'd.mov', owner: 'Fog', user: 'Mist' }]);
  // Fog does not use it in a timeline, Mist does.
  // What no document names any more is its media all the same, and unused.
  expect(await projectMedia(site.db, fog)).toMatchObject({ total: 2, unusedBytes: 500 });
});

test('a new project has the homes of its template; their folders are made, through no link', async () => {
  await saveTemplate(
    site.db,
    {
      name: 'Film',
      homes: [
        { kind: 'source', volumeId: media, folder: '{year}/{project}/camera' },
        { kind: 'document', volumeId: media, folder: 'docs/{project}' },
      ],
    },
    by,
  );
  const [template] = await templateRows(site.db);
  const { projectId, jobId } = await projectFromTemplate(
    site.db,
    { templateId: template!.templateId, facts: facts('Salt Wind'), make: true },
    by,
  );
  expect(jobId).not.toBeNull();
  expect((await projectHomes(site.db, projectId)).homes).toMatchObject([
    { kind: 'source', folder: '2026/salt-wind/camera', trouble: 'not made' },
    { kind: 'document', folder: 'docs/salt-wind', trouble: 'not made' },
  ]);
  const worker = site.worker();
  await until(async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null));
  expect(existsSync(path.join(site.root, 'media/2026/salt-wind/camera'))).toBe(true);
  mkdirSync(path.join(site.root, 'elsewhere'));
  symlinkSync(path.join(site.root, 'elsewhere'), path.join(site.root, 'media/trap'));
  await setHome(site.db, projectId, { kind: 'render', volumeId: media, folder: 'trap/renders' }, by);
  await makeHomes(site.db, projectId, by);
  await until(async () => (await site.db.select().from(jobs)).every((job) => job.finishedAt !== null));
  await worker.stop();
  expect((await site.db.select().from(jobs)).map((job) => job.state)).toEqual(['done', 'failed']);
  expect(existsSync(path.join(site.root, 'elsewhere/renders'))).toBe(false);
  // What comes to lie in a home of its own is the project's.
  site.put('media/2026/salt-wind/camera/x.mov', Buffer.alloc(60));
  await site.read(media);
  expect(await fileFacts(site.db, await fileId('x.mov'))).toMatchObject({
    project: { name: 'Salt Wind' },
    reason: 'below 2026/salt-wind/camera: its home for source',
    atHome: true,
  });
});

test('homes of a project make a template, and a volume that is away is told for those in work', async () => {
  const fog = await idOf('Fog');
  await setHome(site.db, fog, { kind: 'source', volumeId: media, folder: 'fog/rushes' }, by);
  await templateFrom(site.db, fog, 'Like Fog', by);
  expect(await templateRows(site.db)).toMatchObject([
    { name: 'Like Fog', homes: [{ kind: 'source', folder: '{project}/rushes' }] },
  ]);
  expect(await homesInTrouble(site.db)).toEqual([]);
  await site.db.execute("UPDATE volumes SET state = 'unreachable' WHERE name = 'media'");
  expect(await homesInTrouble(site.db)).toMatchObject([
    { project: 'Fog', kind: 'source', volume: 'media', why: 'cannot be reached' },
  ]);
  await saveTemplate(site.db, { name: 'Like Fog', homes: [] }, by);
  expect(await templateRows(site.db)).toEqual([]);
});

test('facts are kept with a receipt that tells no notes; states keep the day they began', async () => {
  const fog = await idOf('Fog');
  await changeProject(site.db, fog, { ...facts('Fog'), client: 'Küstenfunk', privateNotes: 'secret' }, by);
  const [receipt] = await site.db.select().from(receipts).where(eq(receipts.action, 'project changed'));
  expect(receipt!.title).toBe('Fog: client, year, private notes changed');
  expect(JSON.stringify(receipt)).not.toContain('secret');
  const day = new Date('2026-03-01T12:00:00Z');
  await setState(site.db, { projectId: fog, state: 'delivered', since: day, ...by });
  expect(await statesOf(site.db, fog)).toContainEqual({ state: 'delivered', since: day });
  await expect(
    setState(site.db, { projectId: fog, state: 'archived', since: new Date(by.now.getTime() + 86_400_000), ...by }),
  ).rejects.toThrow(/still to come/);
  expect(await titleTroubles(site.db, { id: fog, name: 'Fog' }, ['fog.otio', 'assembly.otio'])).toEqual([
    { what: 'folder', name: 'docs' },
    { what: 'document', name: 'assembly.otio' },
  ]);
});
