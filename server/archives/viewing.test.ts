// A delivery is looked at while its archive is on the shelf: made while the original is there, whole or not at all.
import { execFileSync } from 'node:child_process';
import { readFileSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { eq } from 'drizzle-orm';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { otio, TestSite } from '#test/site.ts';
import { inTransaction } from '../db/connect.ts';
import { viewingCopies, viewingParts } from '../db/schema/catalogue.ts';
import { jobs } from '../db/schema/jobs.ts';
import { addArchive } from '../steps/archive.ts';
import { askForViewing, PART_BYTES, viewingBytes, viewingContent, viewingRows } from './viewing.ts';

let site: TestSite;
beforeEach(async () => void (site = await TestSite.open()));
afterEach(() => site.close());

const film = (to: string, seconds: number, codec: readonly string[]) =>
  execFileSync('ffmpeg', [
    ...['-v', 'error', '-y', '-f', 'lavfi', '-i', `mandelbrot=size=480x270:rate=25`, '-f', 'lavfi', '-i', 'sine=f=440'],
    ...['-t', String(seconds), ...codec, '-c:a', 'pcm_s16le', to],
  ]);

/** Fog, delivered as one film, archived and sealed. */
async function archived(make: (film: string) => void): Promise<{ master: string; fileId: number }> {
  const media = await site.volume('media');
  const carrier = await site.carrier('kd-1');
  site.put('media/fog/rushes/a.mov', 'camera');
  site.put('media/fog/fog.otio', otio('Fog', ['rushes/a.mov']));
  const master = site.put('media/fog/deliveries/fog_master.mov', '');
  make(master);
  await site.read(media);
  await addArchive(site.db, {
    ...{ projectId: 1 as ProjectId, carrierIds: [carrier], folder: 'fog_1', now: new Date() },
  });
  await site.runPlan();
  await site.workOff();
  const [row] = await viewingRows(site.db, 1);
  return { master, fileId: row!.fileId };
}

const played = (bytes: Buffer) => {
  const file = path.join(site.root, 'played.mp4');
  writeFileSync(file, bytes);
  const said = execFileSync('ffprobe', [
    ...[
      '-v',
      'error',
      '-count_frames',
      '-show_entries',
      'stream=codec_name,nb_read_frames,height',
      '-of',
      'csv=p=0',
      file,
    ],
  ]);
  return said.toString().trim().split('\n');
};

test('a delivery has one once it is sealed, whole, any part of it by itself, also when the original is gone', async () => {
  const { fileId } = await archived((to) => film(to, 12, ['-c:v', 'mjpeg', '-q:v', '2']));
  expect(await viewingRows(site.db, 1)).toEqual([
    { fileId, name: 'fog_master.mov', bytes: expect.any(Number) as number, trouble: null, canBeMade: true },
  ]);
  rmSync(path.join(site.root, 'media/fog'), { recursive: true });
  await site.read(1 as VolumeId);
  const bytes = (await viewingBytes(site.db, fileId))!;
  const whole = await viewingContent(site.db, fileId, { from: 0, to: bytes - 1 });
  expect(whole.length).toBe(bytes);
  expect(played(whole)[0]).toMatch(/^h264,270,300/);
  expect(played(whole)[1]).toMatch(/^aac/);
  // Small beside the film, and with its index in front.
  expect(whole.indexOf('moov')).toBeLessThan(whole.indexOf('mdat'));
  for (const [from, to] of [
    [0, 0],
    [10, 400],
    [bytes - 5, bytes - 1],
    ...(bytes > PART_BYTES + 10 ? [[PART_BYTES - 3, PART_BYTES + 3]] : []),
  ] as [number, number][])
    expect(await viewingContent(site.db, fileId, { from, to })).toEqual(whole.subarray(from, to + 1));
  // None can be made any more, and none is asked for.
  expect(await inTransaction(site.db, (tx) => askForViewing(tx, 1, new Date()))).toBe(0);
});

test('what cannot be read to its end has none, and why is told; nothing of it is tried at every look', async () => {
  const { fileId } = await archived((to) => {
    film(to, 2, ['-c:v', 'mjpeg']);
    const bytes = readFileSync(to);
    const at = bytes.indexOf('mdat') + 4;
    bytes.fill(0, at + 60_000, at + 200_000);
    writeFileSync(to, bytes);
  });
  const [row] = await viewingRows(site.db, 1);
  expect([row!.bytes, row!.trouble]).toEqual([0, expect.stringMatching(/^it cannot be read to its end \(/)]);
  expect(await viewingBytes(site.db, fileId)).toBeNull();
  const asked = await site.db.select({ state: jobs.state }).from(jobs).where(eq(jobs.kind, 'make viewing copies'));
  expect(asked).toEqual([{ state: 'done' }]);
});

test('a half of one, left by a worker that ended, counts as none and is made anew', async () => {
  const { fileId } = await archived((to) => film(to, 2, ['-c:v', 'mjpeg']));
  await site.db.delete(viewingCopies);
  await site.db.update(viewingParts).set({ content: Buffer.from('half of it') });
  await site.db.insert(viewingParts).values({ fileId, part: 7, content: Buffer.from('of another try') });
  expect(await viewingBytes(site.db, fileId)).toBeNull();
  expect(await inTransaction(site.db, (tx) => askForViewing(tx, 1, new Date()))).toBe(1);
  await site.workOff();
  const bytes = (await viewingBytes(site.db, fileId))!;
  expect(played(await viewingContent(site.db, fileId, { from: 0, to: bytes - 1 }))[0]).toMatch(/^h264,270,50/);
  expect((await site.db.select().from(viewingParts)).length).toBe(Math.ceil(bytes / PART_BYTES));
});

test('one of a file that was changed since it was archived is not of what lies on the shelf', async () => {
  const { master } = await archived((to) => film(to, 1, ['-c:v', 'mjpeg']));
  film(master, 2, ['-c:v', 'mjpeg']);
  await site.read(1 as VolumeId);
  expect(await inTransaction(site.db, (tx) => askForViewing(tx, 1, new Date()))).toBe(0);
  const [row] = await viewingRows(site.db, 1);
  expect([row!.bytes > 0, row!.canBeMade]).toEqual([true, false]);
});
