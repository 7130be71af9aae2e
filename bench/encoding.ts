// Encodes a film anew without loss and proves it, beside ffmpeg that encodes the same and proves nothing.
// Prints seconds and the ratio. usage: npm run bench -- encoding [seconds of film]
import { execFileSync } from 'node:child_process';
import { mkdtempSync, rmSync, statSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { encode, estimateEncoded } from '#disk/encode.ts';

const length = Number(process.argv[2] ?? 20);
const folder = mkdtempSync(path.join(os.tmpdir(), 'bench-encoding-'));
const at = (name: string) => path.join(folder, name);
const quiet = (args: string[]) =>
  execFileSync('ffmpeg', ['-v', 'error', '-y', '-nostdin', ...args], { stdio: ['ignore', 'pipe', 'pipe'] });

async function seconds(work: () => unknown): Promise<number> {
  const begin = performance.now();
  await work();
  return (performance.now() - begin) / 1000;
}

const tell = (what: string, took: number, beside: number) =>
  console.log(`${what.padEnd(44)} ${took.toFixed(1).padStart(7)} s ${(took / beside).toFixed(2).padStart(7)}`);

try {
  quiet([
    ...['-f', 'lavfi', '-i', `mandelbrot=size=1920x1080:rate=25`, '-f', 'lavfi', '-i', 'sine=sample_rate=48000'],
    ...['-t', String(length), '-c:v', 'dnxhd', '-b:v', '120M', '-pix_fmt', 'yuv422p', '-c:a', 'pcm_s24le', at('a.mov')],
  ]);
  const lossless = ['-c:v', 'ffv1', '-level', '3', '-g', '1', '-slices', '16', '-slicecrc', '1', '-c:a', 'flac'];
  const plain = await seconds(() => quiet(['-i', at('a.mov'), ...lossless, at('plain.mkv')]));
  tell('ffmpeg alone', plain, plain);
  const wish = { media: at('a.mov'), encoding: 'lossless' as const, isToEnd: () => false };
  let about = 0;
  tell('about how large, tried', await seconds(async () => (about = await estimateEncoded(wish))), plain);
  tell('encoded and proved', await seconds(() => encode({ ...wish, to: at('made'), frames: length * 25 })), plain);
  const [before, after] = [statSync(at('a.mov')).size, statSync(at('made')).size];
  console.log(`${before} bytes as ${after}; ${about} were told, ${(100 * (about / after - 1)).toFixed(1)} % off`);
} finally {
  rmSync(folder, { recursive: true, force: true });
}
