import { execFileSync } from 'node:child_process';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { essenceOf } from './essence-source.ts';

const root = mkdtempSync(path.join(os.tmpdir(), 'probe-'));
afterAll(() => rmSync(root, { recursive: true, force: true }));

test('formats that are not read here are asked of ffprobe; what is no media says so', () => {
  const matroska = path.join(root, 'a.mkv');
  execFileSync('ffmpeg', [
    ...['-v', 'error', '-f', 'lavfi', '-i', 'testsrc=s=160x90:r=25:d=2', '-f', 'lavfi', '-i', 'sine=d=2:r=48000'],
    ...['-c:v', 'mjpeg', '-c:a', 'pcm_s16le', matroska],
  ]);
  expect(essenceOf(matroska).reading).toMatchObject({
    ok: true,
    essence: {
      format: 'other',
      tracks: [
        { is: 'picture', codec: 'mjpeg', width: 160, height: 90, rate: { num: 25, den: 1 }, frames: 50 },
        { is: 'sound', channels: 1, sampleRate: 48_000, samples: 96_000 },
      ],
    },
  });
  const nothing = path.join(root, 'b.mkv');
  writeFileSync(nothing, 'no media at all, whatever it is called');
  expect(essenceOf(nothing).reading).toMatchObject({ ok: false, trouble: { code: 'damaged' } });
  const text = path.join(root, 'c.txt');
  writeFileSync(text, 'some words, long enough to be looked at');
  expect(essenceOf(text).reading).toMatchObject({ ok: false, trouble: { code: 'not_known' } });
});
