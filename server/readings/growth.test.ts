import type { VolumeId } from '#core/model.ts';
import { otio, TestSite } from '#test/site.ts';
import { samples, sampleSums } from '../db/schema/sums.ts';
import { causesOfGrowth, forecasts } from './growth.ts';
import { rackVolumes } from '../site/rack.ts';

let site: TestSite;
beforeEach(async () => void (site = await TestSite.open()));
afterEach(() => site.close());
const today = () => Math.floor(Date.now() / 86_400_000);

test('a reading leaves one sample a day by project and kind, also of an empty volume', async () => {
  const full = await site.volume('full');
  const empty = await site.volume('empty');
  site.put('full/fog/fog.otio', otio('Fog', ['a.mov']));
  site.put('full/fog/a.mov', Buffer.alloc(500));
  await site.read(full, empty);
  site.put('full/fog/b.mov', Buffer.alloc(70));
  await site.read(full);
  const rows = await site.db.select().from(samples).orderBy(samples.volumeId, samples.bytes);
  expect(rows.filter((r) => r.bytes > 0).map((r) => [r.volumeId, r.kind, r.projectId, r.files])).toEqual(
    expect.arrayContaining([[full, 'source', 1, 2]]),
  );
  expect(rows.filter((r) => r.volumeId === empty)).toMatchObject([{ files: 0, bytes: 0 }]);
  expect(new Set(rows.map((r) => r.day))).toEqual(new Set([today()]));
});

test('a volume that grows by the day is forecast to fill, and the cause is named', async () => {
  const id: VolumeId = await site.volume('scratch', 'none', 2000);
  site.put('scratch/cache/x.frm', Buffer.alloc(1000));
  await site.read(id);
  for (let back = 1; back <= 10; back++) {
    const sample = { volumeId: id, day: today() - back, bytes: 1000 - 50 * back };
    await site.db.insert(samples).values({ ...sample, projectId: 0, kind: 'cache', files: 1 });
    await site.db.insert(sampleSums).values(sample);
  }
  const [growing] = await forecasts(site.db, await rackVolumes(site.db), today());
  expect(growing!.forecast).toMatchObject({ says: 'fills', bytesPerDay: 50, days: 20 });
  expect(await causesOfGrowth(site.db, [id])).toEqual([{ project: null, kind: 'cache', bytes: 350, share: 1 }]);
});
