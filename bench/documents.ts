// Reading a document of 200 timelines and 400,000 clips in the thread that does it, beside JSON.parse alone in a process
// of its own. usage: npm run bench -- documents [timelines] [clips a timeline] [bare]; bare clips name their media alone
import { execFileSync } from 'node:child_process';
import { closeSync, mkdirSync, openSync, statSync, writeSync } from 'node:fs';
import path from 'node:path';
import { documentPool, readDocument } from '#disk/documents/documents.ts';

const timelines = Number(process.argv[2] ?? 200);
const each = Number(process.argv[3] ?? 2000);
const bare = process.argv[4] === 'bare';
const file = path.resolve('var/bench/large.otio');
mkdirSync(path.dirname(file), { recursive: true });
make();

const bytes = statSync(file).size;
const timed = async <T>(work: () => Promise<T> | T): Promise<[seconds: number, value: T]> => {
  const start = performance.now();
  const value = await work();
  return [(performance.now() - start) / 1000, value];
};
const pool = documentPool();
let peak = 0;
const watch = setInterval(() => (peak = Math.max(peak, process.memoryUsage().rss)), 20);
const times: number[] = [];
let uses = 0;
for (let i = 0; i < 3; i++) {
  const [seconds, { reading }] = await timed(() =>
    readDocument(pool, { path: file, name: 'large.otio' }, { sizeBytes: 1e9, modifiedUs: 0 }),
  );
  if (!reading.ok) throw new Error(reading.trouble.detail);
  uses = reading.document.timelines.reduce((sum, timeline) => sum + timeline.uses.length, 0);
  times.push(seconds);
}
clearInterval(watch);
await pool.end();
const parse = `const s=performance.now();JSON.parse(require('fs').readFileSync(${JSON.stringify(file)},'utf8'));console.log((performance.now()-s)/1000)`;
const plain = Number(execFileSync(process.execPath, ['-e', parse], { encoding: 'utf8' }));
const ours = times.sort((a, b) => a - b)[1]!;
const rate = (seconds: number) => `${(bytes / 1e6 / seconds).toFixed(0)} MB/s`;
console.log(`${(bytes / 1e6).toFixed(0)} MB, ${timelines} timelines, ${uses} uses`);
console.log(`JSON.parse alone      ${plain.toFixed(2)} s  ${rate(plain)}`);
console.log(`read with its reach   ${ours.toFixed(2)} s  ${rate(ours)}  ${(ours / plain).toFixed(2)} times JSON.parse`);
console.log(`most memory           ${(peak / 1e6).toFixed(0)} MB`);

function make(): void {
  const fd = openSync(file, 'w');
  const time = (value: number) => `{"OTIO_SCHEMA":"RationalTime.1","rate":25,"value":${value}}`;
  writeSync(fd, '{"OTIO_SCHEMA":"SerializableCollection.1","name":"large","children":[');
  for (let t = 0; t < timelines; t++) {
    const clips = Array.from({ length: each }, (_, c) => {
      const media = (t * 31 + c * 7) % 20_000;
      const reference = `"media_reference":{"OTIO_SCHEMA":"ExternalReference.1","target_url":"m/${media}.mov"}}`;
      if (bare) return `{"OTIO_SCHEMA":"Clip.1","name":"c${media}",${reference}`;
      return `{"OTIO_SCHEMA":"Clip.1","name":"c${media}","source_range":{"OTIO_SCHEMA":"TimeRange.1","start_time":${time(c % 900)},"duration":${time(20 + (c % 60))}},${reference}`;
    });
    writeSync(
      fd,
      `${t > 0 ? ',' : ''}{"OTIO_SCHEMA":"Timeline.1","name":"cut ${t}","tracks":{"OTIO_SCHEMA":"Stack.1","children":[{"OTIO_SCHEMA":"Track.1","kind":"Video","children":[${clips.join(',')}]}]}}`,
    );
  }
  writeSync(fd, ']}');
  closeSync(fd);
}
