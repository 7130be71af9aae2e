// Cuts recordings to what is used of them, beside cp of as many bytes.
// Prints seconds and the ratio. usage: npm run bench -- cutting [megabytes] [mov | mxf]
import { execFileSync, spawnSync } from 'node:child_process';
import { closeSync, fsyncSync, mkdtempSync, openSync, readSync, rmSync, statSync, writeSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { cutFile, framesOf } from '#core/essence/cut/cut.ts';
import { readEssence } from '#core/essence/essence.ts';
import { fileSource } from '#disk/documents/essence-source.ts';

const megabytes = Number(process.argv[2] ?? 2000);
const sort = process.argv[3] === 'mxf' ? 'mxf' : 'mov';
const name = `a.${sort}`;
const folder = mkdtempSync(path.join(os.tmpdir(), 'bench-cutting-'));
const at = (name: string) => path.join(folder, name);
const quiet = (program: string, args: string[]) => execFileSync(program, args, { stdio: ['ignore', 'pipe', 'pipe'] });

function seconds(work: () => void): number {
  spawnSync('sync');
  const begin = performance.now();
  work();
  return (performance.now() - begin) / 1000;
}

/** A recording of plain pictures: large, and quickly made. */
function record(name: string): void {
  // Of MXF in VC-3, at 120 Mbit/s.
  const frames = Math.ceil((megabytes * 1e6) / (sort === 'mxf' ? 604_000 : 1280 * 720 * 2));
  const coding =
    sort === 'mxf'
      ? ['-c:v', 'dnxhd', '-b:v', '120M', '-pix_fmt', 'yuv422p', '-ar', '48000']
      : ['-c:v', 'rawvideo', '-pix_fmt', 'uyvy422'];
  const picture = `testsrc=size=1280x720:rate=25:duration=${frames / 25}`;
  quiet('ffmpeg', [
    ...[
      '-v',
      'error',
      '-y',
      '-f',
      'lavfi',
      '-i',
      picture,
      '-f',
      'lavfi',
      '-i',
      `sine=sample_rate=48000:duration=${frames / 25}`,
    ],
    ...[...coding, '-c:a', 'pcm_s24le', '-timecode', '10:00:00:00', at(name)],
  ]);
}

function cutTo(name: string, to: string): number {
  const fd = openSync(at(name), 'r');
  const out = openSync(at(to), 'w');
  try {
    const source = fileSource(fd, statSync(at(name)).size);
    const reading = readEssence(source);
    if (!reading.ok) throw new Error(reading.trouble.detail);
    const all = framesOf(reading.essence);
    const { pieces, sizeBytes } = cutFile(source, { from: Math.floor(all / 4), to: Math.floor((all * 3) / 4) });
    const buffer = Buffer.allocUnsafe(4 << 20);
    for (const piece of pieces) {
      if ('bytes' in piece) writeSync(out, piece.bytes);
      else
        for (let done = 0; done < piece.length;) {
          const got = readSync(fd, buffer, 0, Math.min(buffer.length, piece.length - done), piece.at + done);
          writeSync(out, buffer, 0, got);
          done += got;
        }
    }
    fsyncSync(out);
    return sizeBytes;
  } finally {
    closeSync(fd);
    closeSync(out);
  }
}

record(name);
let kept = 0;
const cutting = seconds(() => (kept = cutTo(name, `part.${sort}`)));
quiet('truncate', ['-s', '0', at('b.bin')]);
const beside = seconds(() =>
  quiet('dd', [`if=${at(name)}`, `of=${at('b.bin')}`, 'bs=4M', `count=${Math.ceil(kept / (4 << 20))}`, 'conv=fsync']),
);
const plan = seconds(() => {
  const fd = openSync(at(name), 'r');
  cutFile(fileSource(fd, statSync(at(name)).size), { from: 10, to: 500 });
  closeSync(fd);
});
const line = (what: string, own: number, tool: string, theirs: number) =>
  console.log(
    `${what.padEnd(44)} ${own.toFixed(2)} s   ${tool} ${theirs.toFixed(2)} s   ${(own / theirs).toFixed(2)} times`,
  );
line(`half of ${megabytes} MB, ${(kept / 1e6).toFixed(0)} MB kept`, cutting, 'copying as many bytes', beside);
console.log(`making up a cut, before a byte is written    ${(plan * 1000).toFixed(0)} ms`);
console.log(`most memory                                  ${(process.resourceUsage().maxRSS / 1024).toFixed(0)} MB`);
rmSync(folder, { recursive: true, force: true });
