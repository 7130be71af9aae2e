import { eq } from 'drizzle-orm';
import { movHead } from '#demo/mov.ts';
import { TestSite } from '#test/site.ts';
import { files } from '../db/schema/catalogue.ts';
import { partsUsed } from './parts-used.ts';

const time = (value: number) => ({ OTIO_SCHEMA: 'RationalTime.1', rate: 25, value });
const range = (start: number, duration: number) => ({
  ...{ OTIO_SCHEMA: 'TimeRange.1', start_time: time(start), duration: time(duration) },
});
const clip = (start: number, source: object | null) => ({
  ...{ OTIO_SCHEMA: 'Clip.1', name: 'a', source_range: source },
  media_reference: { OTIO_SCHEMA: 'ExternalReference.1', target_url: 'a.mov', available_range: range(start, 500) },
});
const cut = (...clips: object[]) =>
  JSON.stringify({
    ...{ OTIO_SCHEMA: 'Timeline.1', name: 'Cut' },
    tracks: { OTIO_SCHEMA: 'Stack.1', children: [{ OTIO_SCHEMA: 'Track.1', kind: 'Video', children: clips }] },
  });

/** One document over a take of 500 frames that begins at an hour; what of it is told as used. */
async function told(...clips: object[]) {
  const site = await TestSite.open();
  try {
    const volume = await site.volume('media');
    const { head, fileBytes } = movHead({
      ...{ frames: 500, frameBytes: 40, fps: 25, width: 64, height: 36, startFrame: 90_000, reel: 'A001' },
    });
    site.put('media/fog/a.mov', Buffer.concat([head, Buffer.alloc(fileBytes - head.length)]));
    site.put('media/fog/fog.otio', cut(...clips));
    await site.read(volume);
    const [file] = await site.db.select().from(files).where(eq(files.name, 'a.mov'));
    return await partsUsed(site.db, file!.id);
  } finally {
    await site.close();
  }
}

test('parts are told in the timecode of the file, joined where they meet, and as shares of its length', async () => {
  expect(
    await told(clip(90_000, range(90_100, 50)), clip(90_000, range(90_150, 25)), clip(90_000, range(90_400, 50))),
  ).toEqual({
    isWhole: false,
    parts: [
      { from: '01:00:04:00', to: '01:00:07:00' },
      { from: '01:00:16:00', to: '01:00:18:00' },
    ],
    shares: [
      { from: 0.2, to: 0.35 },
      { from: 0.8, to: 0.9 },
    ],
  });
});

test('a document that counts from zero means the frames of the file from its first on', async () => {
  expect((await told(clip(0, range(100, 50))))!.parts).toEqual([{ from: '01:00:04:00', to: '01:00:06:00' }]);
});

test('a file that is in a bin alone is used by nobody', async () => {
  expect(await told()).toBeNull();
});
