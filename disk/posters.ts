// One small picture of a media file, made by ffmpeg. Called by the work that makes posters.
import { execFile } from 'node:child_process';
import { look } from './facts.ts';
import { locate } from './paths.ts';

const TAKES_AT_MOST_MS = 15_000;
const LARGEST_BYTES = 4 << 20;

export interface PosterWish {
  /** Full path of the media file. */
  media: string;
  /** Where in the media, in seconds. */
  seconds: number;
  height: number;
}

/** The picture as JPEG; null where none can be made of it. Nothing is written to any disk. */
export function makePoster({ media, seconds, height }: PosterWish): Promise<Buffer | null> {
  const input = [
    '-v',
    'error',
    '-nostdin',
    '-protocol_whitelist',
    'file,pipe',
    '-ss',
    seconds.toFixed(3),
    '-i',
    `file:${media}`,
  ];
  const output = ['-an', '-frames:v', '1', '-vf', `scale=-2:${height}`, '-q:v', '6', '-f', 'mjpeg', 'pipe:1'];
  return new Promise((resolve) => {
    execFile(
      'ffmpeg',
      [...input, ...output],
      { timeout: TAKES_AT_MOST_MS, killSignal: 'SIGKILL', maxBuffer: LARGEST_BYTES, encoding: 'buffer' },
      (error, picture) => resolve(!error && picture.length > 0 ? picture : null),
    );
  });
}

/** Full path of a file that is still as large as it was read; null where it is not: what a link leads to is not that file. */
export function mediaAt(root: string, path: string, sizeBytes: number): string | null {
  try {
    const place = locate(root, { path }) as string;
    const facts = look(place);
    return facts.is === 'file' && facts.sizeBytes === sizeBytes ? place : null;
  } catch {
    return null;
  }
}
