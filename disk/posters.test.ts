import { execFileSync } from 'node:child_process';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { makePoster } from './posters.ts';

const folder = mkdtempSync(path.join(os.tmpdir(), 'posters-'));
afterAll(() => rmSync(folder, { recursive: true }));

test('a moment of a film becomes a small JPEG, and what is no film becomes none', async () => {
  const film = path.join(folder, 'a b.mov');
  execFileSync('ffmpeg', ['-v', 'error', '-f', 'lavfi', '-i', 'testsrc=size=320x180:rate=25:duration=1', film]);
  const picture = await makePoster({ media: film, seconds: 0.5, height: 90 });
  expect(picture!.subarray(0, 3).toString('hex')).toBe('ffd8ff');
  writeFileSync(path.join(folder, 'text.mov'), 'no film at all');
  expect(await makePoster({ media: path.join(folder, 'text.mov'), seconds: 0, height: 90 })).toBeNull();
  expect(await makePoster({ media: path.join(folder, 'nowhere.mov'), seconds: 0, height: 90 })).toBeNull();
});
