// What lies in archives is found by its name, and narrowed by whose it is, what it is, where it is kept and what worries.
import { eq } from 'drizzle-orm';
import type { CarrierId, ProjectId } from '#core/model.ts';
import { otio, TestSite } from '#test/site.ts';
import { archiveFiles, copyFiles, copyParts } from '../db/schema/archives.ts';
import { projects } from '../db/schema/projects.ts';
import { carriers } from '../db/schema/stores.ts';
import { addArchive } from '../steps/archive.ts';
import { insideArchives } from './search.ts';
import type { Only } from './where.ts';

let site: TestSite;
const carrierIds: CarrierId[] = [];
beforeAll(async () => {
  site = await TestSite.open();
  await site.volume('media');
  for (const name of ['fog', 'mist']) {
    site.put(`media/${name}/shot one.mov`, name.repeat(1000));
    site.put(`media/${name}/shot ${name}.otio`, otio(name, ['shot one.mov']));
  }
  await site.read(1 as never);
  for (const [i, place] of ['cabinet', 'bank'].entries()) {
    carrierIds.push(await site.carrier(`kd-${i}`));
    await site.db.update(carriers).set({ place }).where(eq(carriers.id, carrierIds[i]!));
  }
  for (const [i, row] of (await site.db.select().from(projects).orderBy(projects.name)).entries()) {
    await site.db
      .update(projects)
      .set({ client: `client ${i}`, year: 2020 + i })
      .where(eq(projects.id, row.id));
    const asked = { projectId: row.id as ProjectId, carrierIds: [carrierIds[i]!], folder: `a_${i}`, now: new Date() };
    await addArchive(site.db, asked);
    await site.runPlan();
    await site.workOff();
  }
});
afterAll(() => site.close());

const found = async (text: string, only: Only = {}) =>
  (await insideArchives(site.db, { text, only, most: 50 })).map(({ folder, at }) => `${folder}/${at}`).sort();
const FOG = 'a_0/media/Rushes/shot one.mov';
const MIST = 'a_1/media/Rushes/shot one.mov';

test('by words of the name, all of them, in any case', async () => {
  expect(await found('SHOT one')).toEqual([FOG, MIST]);
  expect((await found('shot')).length).toBe(4);
  expect(await found('shot two')).toEqual([]);
  expect(await found('   ')).toEqual([]);
});

test.each<[string, Only, string[]]>([
  ['client', { client: 'client 0' }, [FOG]],
  ['year', { year: 2021 }, [MIST]],
  ['project', { projectId: 1 }, [FOG]],
  ['place', { place: 'bank' }, [MIST]],
  ['kind', { kind: 'media' }, [FOG, MIST]],
  ['another kind', { kind: 'deliveries' }, []],
  ['all of it', { client: 'client 1', year: 2021, projectId: 2, place: 'bank', kind: 'media' }, [MIST]],
  ['what does not go together', { client: 'client 0', place: 'bank' }, []],
  ['nothing worries', { isWorry: true }, []],
])('narrowed by %s', async (_what, only, expected) => {
  expect(await found('shot one', only)).toEqual(expected);
});

test('what worries: a damaged file, and one of which no copy is good', async () => {
  const [file] = await site.db
    .select()
    .from(archiveFiles)
    .where(eq(archiveFiles.payloadPath, 'media/Rushes/shot one.mov'));
  await site.db.update(copyFiles).set({ state: 'damaged' }).where(eq(copyFiles.archiveFileId, file!.id));
  expect(await found('shot one', { isWorry: true })).toEqual([FOG]);
  await site.db.update(copyParts).set({ state: 'damaged' }).where(eq(copyParts.carrierId, carrierIds[1]!));
  expect(await found('shot one', { isWorry: true })).toEqual([FOG, MIST]);
  expect(await found('shot one', { place: 'bank' })).toEqual([]);
  site.checked = false;
});
