// A few true JPEG pictures for the demo's media, and one short film that can be looked at, drawn by ffmpeg from its own test
// sources.
import { execFileSync } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';

const SOURCES = [
  'testsrc2=size=960x540',
  'smptehdbars=size=960x540',
  'rgbtestsrc=size=960x540',
  'gradients=size=960x540:seed=4',
];

/** One JPEG a source, each well below the size of a demo frame. */
export function pictures(): Buffer[] {
  return SOURCES.map((source) =>
    execFileSync(
      'ffmpeg',
      [
        '-v',
        'error',
        '-f',
        'lavfi',
        '-i',
        source,
        '-frames:v',
        '1',
        '-pix_fmt',
        'yuvj422p',
        '-q:v',
        '6',
        '-f',
        'image2pipe',
        '-c:v',
        'mjpeg',
        'pipe:1',
      ],
      { maxBuffer: 1 << 24 },
    ),
  );
}

/** Twelve seconds with sound, in H.264 and AAC. */
export function film(): Buffer {
  const folder = mkdtempSync(path.join(os.tmpdir(), 'keramion-film-'));
  try {
    const to = path.join(folder, 'film.mp4');
    const picture = [
      '-f',
      'lavfi',
      '-i',
      'gradients=size=320x180:rate=24:seed=7:speed=0.03:c0=0x2f6f64:c1=0xe3b04b,scale=960:540',
    ];
    const sound = ['-f', 'lavfi', '-i', 'sine=frequency=220:sample_rate=48000'];
    const coded = ['-t', '12', '-c:v', 'libx264', '-preset', 'ultrafast', '-pix_fmt', 'yuv420p', '-c:a', 'aac'];
    execFileSync('ffmpeg', ['-v', 'error', '-bitexact', ...picture, ...sound, ...coded, to]);
    return readFileSync(to);
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}
