// Small pictures of what is archived are made while its originals are there, and stay when they are gone.
import { execFileSync } from 'node:child_process';
import { rmSync } from 'node:fs';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import type { ProjectId } from '#core/model.ts';
import { otio, TestSite } from '#test/site.ts';
import { files, posters } from '../db/schema/catalogue.ts';
import { PosterDesk } from '../projects/posters.ts';
import { addArchive } from '../steps/archive.ts';
import { contentRows } from './page.ts';

let site: TestSite;
beforeEach(async () => void (site = await TestSite.open()));
afterEach(() => site.close());

test('an archive keeps a picture of each of its media, also when the originals are gone', async () => {
  const media = await site.volume('media');
  const carrier = await site.carrier('kd-1');
  const film = site.put('media/fog/rushes/a.mov', '');
  const source = ['-f', 'lavfi', '-i', 'testsrc2=size=64x48:rate=25:duration=1', '-c:v', 'mjpeg'];
  execFileSync('ffmpeg', ['-v', 'error', '-y', ...source, film]);
  site.put('media/fog/rushes/b.mov', 'no picture in it');
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/a.mov', 'rushes/b.mov']));
  await site.read(media);
  await addArchive(site.db, {
    ...{ projectId: 1 as ProjectId, carrierIds: [carrier], folder: 'fog_1', now: new Date() },
  });
  await site.runPlan();
  await site.workOff();
  const [a] = await site.db.select().from(files).where(eq(files.name, 'a.mov'));
  expect(await site.db.select({ fileId: posters.fileId }).from(posters)).toEqual([{ fileId: a!.id }]);
  rmSync(path.join(site.root, 'media/fog'), { recursive: true });
  await site.read(media);
  const picture = await new PosterDesk(site.db).get({ fileId: a!.id, moment: 0 });
  expect(picture?.subarray(0, 2)).toEqual(Buffer.from([0xff, 0xd8]));
  // Nobody can make another moment of it any more, and nobody waits for it.
  expect(await new PosterDesk(site.db).get({ fileId: a!.id, moment: 3 })).toBeNull();
  const { rows } = await contentRows(site.db, 1, { word: 'mov', after: 0 });
  expect(rows.map((row) => [path.basename(row.at), row.hasPicture]).sort()).toEqual([
    ['a.mov', true],
    ['b.mov', false],
  ]);
});
