// What lies in archives is found by its name, and narrowed by archive, by what it is and by where it is kept.
import { eq } from 'drizzle-orm';
import type { CarrierId, ProjectId } from '#core/model.ts';
import { otio, TestSite, until } from '#test/site.ts';
import { archiveClips, copyParts } from '../db/schema/archives.ts';
import { projects } from '../db/schema/projects.ts';
import { carriers } from '../db/schema/stores.ts';
import { addArchive } from '../steps/archive.ts';
import { insideArchives, search } from './search.ts';
import { nameIndex } from './names.ts';
import type { Only } from './where.ts';

let site: TestSite;
const carrierIds: CarrierId[] = [];
beforeAll(async () => {
  site = await TestSite.open();
  await site.volume('media');
  for (const name of ['fog', 'mist']) {
    site.put(`media/${name}/shot one.mov`, name.repeat(1000));
    const document = otio(name, ['shot one.mov']).replaceAll('"name": "shot one.mov"', '"name": "Long shot"');
    site.put(`media/${name}/shot ${name}.otio`, document);
  }
  await site.read(1 as never);
  for (const [i, place] of ['cabinet', 'bank'].entries()) {
    carrierIds.push(await site.carrier(`kd-${i}`));
    await site.db.update(carriers).set({ place }).where(eq(carriers.id, carrierIds[i]!));
  }
  for (const [i, row] of (await site.db.select().from(projects).orderBy(projects.name)).entries()) {
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
  ['archives', { archiveIds: [1] }, [FOG]],
  ['no archive', { archiveIds: [] }, []],
  ['place', { place: 'bank' }, [MIST]],
  ['kind', { kind: 'media' }, [FOG, MIST]],
  ['another kind', { kind: 'deliveries' }, []],
  ['all of it', { archiveIds: [1, 2], place: 'bank', kind: 'media' }, [MIST]],
  ['what does not go together', { archiveIds: [1], place: 'bank' }, []],
])('narrowed by %s', async (_what, only, expected) => {
  expect(await found('shot one', only)).toEqual(expected);
});

test('clips and bins of archived documents are found by their names, each of a project once, where it was archived last', async () => {
  const hits = async (text: string, names?: ReturnType<typeof nameIndex>) =>
    (await search(site.db, text, names)).hits
      .filter(({ what }) => what === 'archived clip' || what === 'archived bin')
      .map(({ what, name, where, parentId }) => `${what} ${name}: ${where}, ${parentId}`);
  const clips = [
    'archived clip Long shot: archived with mist, in Rushes, 2',
    'archived clip Long shot: archived with fog, in Rushes, 1',
  ];
  const bins = ['archived bin Rushes: archived with mist, a_1, 2', 'archived bin Rushes: archived with fog, a_0, 1'];
  expect(await hits('long shot')).toEqual(clips);
  expect(await hits('rushes')).toEqual(bins);
  const names = nameIndex(site.database.url);
  try {
    // The first question has it read the names.
    await until(async () =>
      (
        await Promise.all(
          ['archive_clips', 'archive_bins'].map((table) => names.find(table as 'archive_clips', ['x'], 1)),
        )
      ).every((one) => one.ready),
    );
    expect(await hits('long shot', names)).toEqual(clips);
    // A clip that is called as its file is found by that.
    await site.db.update(archiveClips).set({ name: 'shot one.mov' });
    expect(await hits('shot one')).toEqual([]);
    expect(await hits('RUSHES', names)).toEqual(bins);
    expect(await hits('rushes shot', names)).toEqual([]);
  } finally {
    await names.end();
  }
});

test('a copy that is damaged is none that it could be had from', async () => {
  await site.db.update(copyParts).set({ state: 'damaged' }).where(eq(copyParts.carrierId, carrierIds[1]!));
  expect(await found('shot one', { place: 'bank' })).toEqual([]);
  expect(await found('shot one')).toEqual([FOG, MIST]);
  site.checked = false;
});
