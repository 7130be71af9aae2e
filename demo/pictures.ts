// A few true JPEG pictures for the demo's media, drawn by ffmpeg from its own test sources.
import { execFileSync } from 'node:child_process';

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
