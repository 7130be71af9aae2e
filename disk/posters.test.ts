import { execFileSync } from 'node:child_process';
import { mkdtempSync, readdirSync, rmSync, statSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { posterStore } from './posters.ts';

const root = mkdtempSync(path.join(os.tmpdir(), 'posters-'));
afterAll(() => rmSync(root, { recursive: true, force: true }));
const kept = (folder: string) =>
  readdirSync(folder, { recursive: true }).filter((name) => String(name).endsWith('.jpg'));

test('a picture is made once, a file without one is not tried again, and the folder stays within its bound', async () => {
  const media = path.join(root, 'a b.mov');
  execFileSync('ffmpeg', ['-v', 'error', '-f', 'lavfi', '-i', 'testsrc=s=160x90:r=25:d=2', '-c:v', 'mjpeg', media]);
  const broken = path.join(root, 'broken.mov');
  writeFileSync(broken, 'no picture');
  const folder = path.join(root, 'store');
  const store = posterStore(folder, 40_000);
  const wish = { key: 'one', media, seconds: 1, height: 90 };
  const [first, again] = await Promise.all([store.get(wish), store.get(wish)]);
  expect(first!.subarray(0, 2)).toEqual(Buffer.from([0xff, 0xd8]));
  expect(again).toBe(first);
  rmSync(media);
  expect((await store.get(wish))!.equals(first!)).toBe(true);
  expect(await store.get({ ...wish, key: 'two', media: broken })).toBeNull();
  writeFileSync(broken, 'still none');
  expect(await store.get({ ...wish, key: 'two', media: broken })).toBeNull();
  await expect(store.get({ ...wish, key: '../out' })).rejects.toThrow(/letters/);
  execFileSync('ffmpeg', ['-v', 'error', '-f', 'lavfi', '-i', 'testsrc=s=640x360:r=25:d=2', '-c:v', 'mjpeg', media]);
  await Promise.all(
    Array.from({ length: 60 }, (_, i) => store.get({ ...wish, key: `many-${i}`, height: 180, seconds: i / 40 })),
  );
  const bytes = () => kept(folder).reduce((sum, name) => sum + statSync(path.join(folder, String(name))).size, 0);
  for (let i = 0; i < 200 && bytes() > 40_000; i++) await new Promise((resolve) => setTimeout(resolve, 25));
  expect(bytes()).toBeLessThanOrEqual(40_000);
  expect(kept(folder).length).toBeGreaterThan(1);
});
