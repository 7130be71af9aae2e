// Folders are given to a project by hand: their files are its own from then on, sums follow, and it is undone by its receipt.
import { and, eq } from 'drizzle-orm';
import type { FolderId, ProjectId, VolumeId } from '#core/model.ts';
import { otio, TestSite } from '#test/site.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { claims } from '../db/schema/projects.ts';
import { receipts } from '../db/schema/receipts.ts';
import { undoReceipt } from '../ledger/undo.ts';
import { giveFolders } from './give-folders.ts';
import { setHome } from './homes.ts';

let site: TestSite;
let media: VolumeId;
const FOG = 1 as ProjectId;
const by = () => ({ who: 'Mara', now: new Date() });

beforeEach(async () => {
  site = await TestSite.open();
  media = await site.volume('media');
  site.put('media/fog/fog.otio', otio('Fog', ['a.mov']));
  site.put('media/fog/a.mov', 'a');
  site.put('media/strays/deep/b.mov', 'bb');
  site.put('media/strays/c.mov', 'ccc');
  site.put('media/rain/rain.otio', otio('Rain', ['d.mov']));
  site.put('media/rain/d.mov', 'd');
  await site.read(media);
});
afterEach(() => site.close());

async function idOf(path: string): Promise<FolderId> {
  const [row] = await site.db
    .select({ id: folders.id })
    .from(folders)
    .where(and(eq(folders.volumeId, media), eq(folders.path, path)));
  return row!.id as FolderId;
}
const ownerOf = async (name: string) =>
  (await site.db.select({ owner: files.projectId }).from(files).where(eq(files.name, name)))[0]!.owner;
const give = async (...paths: string[]) =>
  giveFolders(site.db, { projectId: FOG, folderIds: await Promise.all(paths.map(idOf)) }, by());

test('what lies in them is the project’s, also after the next reading, until it is undone', async () => {
  expect([await ownerOf('b.mov'), await ownerOf('c.mov')]).toEqual([null, null]);
  const { receiptId } = await give('strays');
  expect([await ownerOf('b.mov'), await ownerOf('c.mov')]).toEqual([FOG, FOG]);
  await site.read(media);
  expect(await ownerOf('b.mov')).toBe(FOG);
  const [receipt] = await site.db.select().from(receipts).where(eq(receipts.id, receiptId));
  expect(receipt).toMatchObject({ title: 'strays given to Fog', files: 2, bytes: 5, projectId: FOG });
  expect(await undoReceipt(site.db, receiptId, by())).toBe('strays given to Fog');
  expect([await ownerOf('b.mov'), await ownerOf('c.mov')]).toEqual([null, null]);
  await expect(undoReceipt(site.db, receiptId, by())).rejects.toThrow('changed again since');
});

test('a folder of another project changes hands, and goes back to it when that is undone', async () => {
  const rain = await ownerOf('d.mov');
  expect(rain).not.toBe(FOG);
  const { receiptId } = await give('rain', 'strays/deep');
  expect([await ownerOf('d.mov'), await ownerOf('b.mov'), await ownerOf('c.mov')]).toEqual([FOG, FOG, null]);
  await site.read(media);
  expect(await ownerOf('d.mov')).toBe(FOG);
  await undoReceipt(site.db, receiptId, by());
  expect([await ownerOf('d.mov'), await ownerOf('b.mov')]).toEqual([rain, null]);
});

test('where one of several changed hands since, none goes back', async () => {
  const rain = (await ownerOf('d.mov')) as ProjectId;
  const { receiptId } = await give('strays/deep', 'rain');
  await giveFolders(site.db, { projectId: rain, folderIds: [await idOf('rain')] }, { who: 'Ida', now: new Date() });
  const before = await site.db.select().from(claims);
  await expect(undoReceipt(site.db, receiptId, by())).rejects.toThrow('changed again since');
  expect(await site.db.select().from(claims)).toEqual(before);
  expect([await ownerOf('d.mov'), await ownerOf('b.mov')]).toEqual([rain, FOG]);
});

test('what is a home of another, a whole volume, or not there any more is refused, and nothing is given', async () => {
  const rain = (await ownerOf('d.mov')) as ProjectId;
  await setHome(site.db, rain, { kind: 'source', volumeId: media, folder: 'strays' }, by());
  const before = await site.db.select().from(claims);
  await expect(give('strays/deep', 'strays')).rejects.toThrow('strays belongs to Rain: it is its home.');
  await expect(give('strays/deep', '')).rejects.toThrow('A whole volume cannot be one project’s.');
  await expect(
    giveFolders(site.db, { projectId: FOG, folderIds: [await idOf('strays/deep'), 99_999 as FolderId] }, by()),
  ).rejects.toThrow('not there any more');
  await expect(
    giveFolders(site.db, { projectId: 99 as ProjectId, folderIds: [await idOf('strays')] }, by()),
  ).rejects.toThrow('no such project');
  expect(await site.db.select().from(claims)).toEqual(before);
});
