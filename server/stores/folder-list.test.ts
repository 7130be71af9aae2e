// A worker looks into folders for whoever registers one; nothing of it stays.
import { mkdirSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { TestSite } from '#test/site.ts';
import { jobs } from '../db/schema/jobs.ts';
import { firstSteps } from '../site/first-steps.ts';
import { lookIntoFolder } from './folder-list.ts';

let site: TestSite;
beforeEach(async () => void (site = await TestSite.open()));
afterEach(() => site.close());
const by = () => ({ who: 'Mara', now: new Date() });

test('what lies there is told, with what speaks against registering it; the work leaves nothing behind', async () => {
  const worker = site.worker();
  await site.volume('media');
  mkdirSync(path.join(site.root, 'media/fog/rushes'), { recursive: true });
  writeFileSync(path.join(site.root, 'file'), '');
  const look = (at: string) => lookIntoFolder(site.db, path.join(site.root, at), by());
  expect(await look('media/fog')).toMatchObject({
    list: { folders: ['rushes'], files: 0, writable: true },
    against: null,
  });
  expect((await look('media')).against).toMatch(/is registered already, as media\.$/);
  expect((await look('')).against).toMatch(
    /holds media, which is registered on its own\. Register a narrower folder\.$/,
  );
  expect((await look('media/../media/fog')).list.path).toBe(path.join(site.root, 'media/fog'));
  await expect(look('nowhere')).rejects.toThrow(/nowhere is not there on this server\.$/);
  await expect(look('file')).rejects.toThrow(/file is no folder on this server\.$/);
  await expect(lookIntoFolder(site.db, 'media', by())).rejects.toThrow(/no full path/);
  await worker.stop();
  expect(await site.db.select().from(jobs)).toEqual([]);
});

test('where no worker is, that is said, and nothing waits for one', async () => {
  await expect(lookIntoFolder(site.db, site.root, by(), 1)).rejects.toThrow(/No worker has answered.*or type the path/);
  expect(await site.db.select().from(jobs)).toEqual([]);
});

test('first steps are done as far as the house has what they make', async () => {
  expect(await firstSteps(site.db)).toEqual({
    ...{ volume: false, reading: false, project: false, home: false, projectId: null },
  });
  const media = await site.volume('media');
  expect(await firstSteps(site.db)).toMatchObject({ volume: true, reading: false });
  site.put('media/fog/fog.otio', JSON.stringify({ OTIO_SCHEMA: 'Timeline.1', name: 'Fog', tracks: null }));
  await site.read(media);
  expect(await firstSteps(site.db)).toMatchObject({
    volume: true,
    reading: true,
    project: true,
    home: false,
    projectId: 1,
  });
});
