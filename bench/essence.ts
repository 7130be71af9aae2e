// Reading the structure of media files in a thread, beside a process of ffprobe for each.
// usage: npm run bench -- essence [files]
import { execFileSync } from 'node:child_process';
import { closeSync, existsSync, ftruncateSync, mkdirSync, openSync, writeSync } from 'node:fs';
import path from 'node:path';
import { movHead } from '#demo/mov.ts';
import { documentPool, readEssenceOf } from '#disk/documents/documents.ts';

const files = Number(process.argv[2] ?? 2000);
const folder = path.resolve('var/bench/essence');
mkdirSync(folder, { recursive: true });
const all = Array.from({ length: files }, (_, i) => path.join(folder, `A001C${String(i).padStart(4, '0')}.mov`));
for (const [i, file] of all.entries()) {
  if (existsSync(file)) continue;
  const shape = { frames: 2000 + (i % 5000), frameBytes: 1_200_000, fps: 25, width: 1920, height: 1080 };
  const { head, fileBytes } = movHead({ ...shape, startFrame: 90_000 + i, reel: 'A001' });
  const fd = openSync(file, 'w');
  writeSync(fd, head);
  ftruncateSync(fd, fileBytes);
  closeSync(fd);
}
const timed = async (work: () => Promise<unknown> | unknown): Promise<number> => {
  const start = performance.now();
  await work();
  return performance.now() - start;
};
const FACTS = { sizeBytes: 0, modifiedUs: 0 };
const pool = documentPool();
await readEssenceOf(pool, all[0]!, FACTS);
const ours =
  (await timed(async () => {
    for (let i = 0; i < all.length; i += 8) {
      const some = await Promise.all(all.slice(i, i + 8).map((file) => readEssenceOf(pool, file, FACTS)));
      if (some.some(({ reading }) => !reading.ok)) throw new Error('A file was not read.');
    }
  })) / files;
await pool.end();
const probed = all.slice(0, 30);
const theirs =
  (await timed(() => {
    for (const file of probed)
      execFileSync('ffprobe', ['-v', 'error', '-show_entries', 'stream=codec_name,nb_frames', '-of', 'json', file]);
  })) / probed.length;
console.log(`ffprobe, a process a file   ${theirs.toFixed(1)} ms a file`);
console.log(`read in a thread            ${ours.toFixed(2)} ms a file, ${(1000 / ours).toFixed(0)} files/s`);
console.log(`ratio                       ${(ours / theirs).toFixed(4)}`);
