// A small film of a media file, to be looked at while the file itself lies on the shelf: H.264 (ITU-T H.264) and AAC (ISO/IEC
// 14496-3) in MP4, its index in front so that it plays while it comes. Made by ffmpeg.
import { execFile, spawn } from 'node:child_process';
import { open } from 'node:fs/promises';
import readline from 'node:readline';

export interface ViewingWish {
  /** Full path of the media file. */
  media: string;
  /** Where nothing is yet. */
  to: string;
  /** How much of it is made, from 0 to 1; nothing is said where the file does not tell how long it is. */
  onPart: (part: number) => void;
  isToEnd: () => boolean;
}

/** Lines of the picture, at most; and kept within this rate however lively it is. */
const HEIGHT = 270;
const MOST_KBITS = 400;
const LISTENS_EVERY_MS = 250;

/**
 * Null once it is made, else why it could not be made, as the end of a sentence. A file that cannot be read to its end has no
 * viewing copy: one that stops in the middle would tell of a film that is not so.
 */
export async function makeViewingCopy({ media, to, onPart, isToEnd }: ViewingWish): Promise<string | null> {
  const length = await secondsOf(media);
  const input = ['-v', 'error', '-xerror', '-nostdin', '-protocol_whitelist', 'file,pipe', '-i', `file:${media}`];
  const picture = ['-vf', `scale=-2:'min(${HEIGHT},ih)':flags=bilinear`, '-c:v', 'libx264', '-preset', 'veryfast'];
  const kept = ['-crf', '30', '-maxrate', `${MOST_KBITS}k`, '-bufsize', `${2 * MOST_KBITS}k`, '-pix_fmt', 'yuv420p'];
  const sound = ['-c:a', 'aac', '-b:a', '64k', '-ac', '2'];
  const output = ['-map', '0:v:0?', '-map', '0:a:0?', '-map_metadata', '-1', ...picture, ...kept, ...sound];
  const child = spawn(
    'ffmpeg',
    [...input, ...output, '-movflags', '+faststart', '-f', 'mp4', '-progress', 'pipe:1', to],
    { stdio: ['ignore', 'pipe', 'pipe'] },
  );
  let said = '';
  child.stderr.setEncoding('utf8').on('data', (text: string) => void (said = (said + text).slice(0, 2000)));
  readline.createInterface({ input: child.stdout }).on('line', (line) => {
    const us = /^out_time_us=(\d+)$/.exec(line);
    if (us && length > 0) onPart(Math.min(1, Number(us[1]) / 1e6 / length));
  });
  const listening = setInterval(() => {
    if (isToEnd()) child.kill('SIGKILL');
  }, LISTENS_EVERY_MS);
  return new Promise((resolve) => {
    const ended = (why: string | null) => {
      clearInterval(listening);
      resolve(why);
    };
    child.on('error', () => ended('ffmpeg is not there'));
    child.on('close', (code) => {
      const first = said
        .trim()
        .split('\n')[0]!
        .replace(/^\[[^\]]*\] */, '');
      ended(
        code === 0 ? null : first === '' ? 'it was stopped' : `it cannot be read to its end (${first.slice(0, 200)})`,
      );
    });
  });
}

const PROBES_MS = 20_000;

/** How long it says it is; 0 where it does not. */
const secondsOf = (media: string): Promise<number> =>
  new Promise((resolve) => {
    const asked = ['-v', 'error', '-protocol_whitelist', 'file,pipe', '-show_entries', 'format=duration'];
    execFile(
      'ffprobe',
      [...asked, '-of', 'csv=p=0', `file:${media}`],
      { timeout: PROBES_MS, killSignal: 'SIGKILL' },
      (_error, said) => resolve(Number(said) > 0 ? Number(said) : 0),
    );
  });

/** What was made, in parts of `bytes`, the last one shorter. */
export async function* partsOf(made: string, bytes: number): AsyncGenerator<Buffer> {
  const file = await open(made, 'r');
  try {
    for (let part = 0; ; part++) {
      const content = Buffer.alloc(bytes);
      const { bytesRead } = await file.read(content, 0, bytes, part * bytes);
      if (bytesRead === 0) return;
      yield content.subarray(0, bytesRead);
    }
  } finally {
    await file.close();
  }
}
