// Every loader of the interface at three million files, beside what raw SQL over the file rows would take for the same
// numbers. usage: npm run bench -- loaders [rounds] [a part of the loader's name]
import type { Database } from '#server/db/connect.ts';
import { disconnect } from '#server/db/connect.ts';
import { currentAssessment } from '#server/db/worth.ts';
import { assess } from '#server/reclaim/assess.ts';
import { largeCatalogue } from './catalogue.ts';

const rounds = Number(process.argv[2] ?? 20);
const part = process.argv[3] ?? '';
const { server, db } = await largeCatalogue();
process.env.KERAMION_DATABASE = server.url;
// Reclaim reads what may go from an assessment.
if ((await currentAssessment(db)) === null) {
  const began = performance.now();
  await assess(db);
  console.log(`assessed in ${((performance.now() - began) / 1000).toFixed(1)} s`);
}

type Loader = (args: { request: Request; params: Record<string, string> }) => Promise<unknown>;
const of = async (module: Promise<unknown>) => ((await module) as { loader: Loader }).loader;
const loaders: [name: string, loader: Loader, address: string, params?: Record<string, string>][] = [
  ['frame', await of(import('../app/shell/frame.server.ts')), '/'],
  ['site', await of(import('../app/site/site.server.ts')), '/'],
  ['projects', await of(import('../app/projects/projects.server.ts')), '/projects'],
  ['projects, one volume', await of(import('../app/projects/projects.server.ts')), '/projects?v=3'],
  ['project', await of(import('../app/projects/project.server.ts')), '/projects/7', { projectId: '7' }],
  [
    'project, all clips',
    await of(import('../app/projects/project.server.ts')),
    '/projects/7?bin=all',
    { projectId: '7' },
  ],
  ['space', await of(import('../app/space/space.server.ts')), '/space'],
  ['space by project', await of(import('../app/space/space.server.ts')), '/space?by=project'],
  ['space by kind, one volume', await of(import('../app/space/space.server.ts')), '/space?by=kind&v=2'],
  ['space, a volume', await of(import('../app/space/space.server.ts')), '/space?folder=3'],
  ['space, one project by folder', await of(import('../app/space/space.server.ts')), '/space?project=9'],
  ['space, a folder of files', await of(import('../app/space/space.server.ts')), '/space?folder=20'],
  ['space, largest', await of(import('../app/space/space.server.ts')), '/space?list=largest'],
  ['space, newest on a volume', await of(import('../app/space/space.server.ts')), '/space?list=newest&v=4'],
  ['space, oldest', await of(import('../app/space/space.server.ts')), '/space?list=oldest'],
  ['space, deepest', await of(import('../app/space/space.server.ts')), '/space?list=deepest'],
  ['space, a file', await of(import('../app/space/space.server.ts')), '/space?file=1234567'],
  ['reclaim', await of(import('../app/reclaim/reclaim.server.ts')), '/reclaim'],
  ['reclaim, one volume', await of(import('../app/reclaim/reclaim.server.ts')), '/reclaim?v=6'],
  ['reclaim, unused media', await of(import('../app/reclaim/reclaim.server.ts')), '/reclaim?work=1&group=unused+media'],
  ['reclaim, caches by folder', await of(import('../app/reclaim/caches.server.ts')), '/reclaim/caches?age=30'],
  ['reclaim, a goal', await of(import('../app/reclaim/reclaim.server.ts')), '/reclaim?work=1&free=60&on=3&level=1'],
  ['reclaim, left behind', await of(import('../app/reclaim/reclaim.server.ts')), '/reclaim?left=1'],
  ['reclaim, set aside', await of(import('../app/reclaim/aside.server.ts')), '/reclaim/aside'],
  ['archive', await of(import('../app/archive/archive.server.ts')), '/archive'],
  ['archive, shape', await of(import('../app/archive/shape.server.ts')), '/archive/7', { projectId: '7' }],
  ['shelf', await of(import('../app/shelf/shelf.server.ts')), '/shelf'],
  ['ledger', await of(import('../app/ledger/ledger.server.ts')), '/ledger'],
  ['storage', await of(import('../app/storage/storage.server.ts')), '/storage'],
  ['settings', await of(import('../app/settings/settings.server.ts')), '/settings'],
  ['search: a part of a name', await of(import('../app/shell/search-data.server.ts')), '/search?q=c01234'],
  ['search: a common part', await of(import('../app/shell/search-data.server.ts')), '/search?q=.mov'],
  [
    'search: two parts, a kind',
    await of(import('../app/shell/search-data.server.ts')),
    '/search?q=a123+_99+kind:cache',
  ],
  [
    'search: filters alone',
    await of(import('../app/shell/search-data.server.ts')),
    '/search?q=kind:render+over+8+mb+older+than+a+year',
  ],
  ['search: nothing fits', await of(import('../app/shell/search-data.server.ts')), '/search?q=zzzzqq'],
];

const raw: [name: string, query: string][] = [
  [
    'raw SQL: bytes by volume and kind',
    'SELECT volume_id, kind, COUNT(*), SUM(size_bytes) FROM files WHERE gone_at IS NULL GROUP BY volume_id, kind',
  ],
  [
    'raw SQL: bytes by project',
    'SELECT project_id, SUM(size_bytes) FROM files WHERE gone_at IS NULL GROUP BY project_id',
  ],
  ['raw SQL: the largest hundred', 'SELECT * FROM files WHERE gone_at IS NULL ORDER BY size_bytes DESC LIMIT 100'],
  ['raw SQL: a part of a name', "SELECT id FROM files WHERE gone_at IS NULL AND name LIKE '%c01234%' LIMIT 12"],
];

const timed = async (work: () => Promise<unknown>): Promise<number> => {
  const start = performance.now();
  await work();
  return performance.now() - start;
};
const at = (values: number[], share: number) =>
  [...values].sort((a, b) => a - b)[Math.min(values.length - 1, Math.floor(values.length * share))]!;

async function rawMedian(database: Database, query: string): Promise<number> {
  const times = [];
  for (let i = 0; i < 3; i++) times.push(await timed(() => database.$pool.query(query)));
  return at(times, 0.5);
}

// The names are read into memory once, when the interface starts.
const search = loaders.find(([name]) => name.startsWith('search'))![1];
const reading = await timed(async () => {
  for (;;) {
    const took = await timed(() => search({ request: new Request('http://x/search?q=zzzz'), params: {} }));
    if (took < 100) break;
  }
});
console.log(`names in memory after ${(reading / 1000).toFixed(1)} s`);
const slow: string[] = [];
for (const [name, loader, address, params = {}] of loaders.filter(([name]) => name.includes(part))) {
  const times: number[] = [];
  await loader({ request: new Request(`http://x${address}`), params });
  for (let i = 0; i < rounds; i++)
    times.push(await timed(() => loader({ request: new Request(`http://x${address}`), params })));
  if (at(times, 0.95) > 150) slow.push(name);
  console.log(
    `${name.padEnd(36)} median ${at(times, 0.5).toFixed(0).padStart(6)} ms   p95 ${at(times, 0.95).toFixed(0).padStart(6)} ms`,
  );
}
for (const [name, query] of raw.filter(([name]) => name.includes(part)))
  console.log(`${name.padEnd(36)} median ${(await rawMedian(db, query)).toFixed(0).padStart(6)} ms`);
console.log(slow.length === 0 ? 'every p95 is under 150 ms' : `over 150 ms: ${slow.join(', ')}`);
await disconnect(db);
await server.stop();
process.exit(0);
