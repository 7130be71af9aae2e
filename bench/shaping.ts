// What an archive of a project of many clips would hold, asked anew as its page does after every change, beside one SQL sum over
// the same files. Prints milliseconds. usage: npm run bench -- shaping [clips]
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { sql } from 'drizzle-orm';
import { type ArchiveScope, USUAL_SCOPE } from '#core/archive/selection.ts';
import type { ProjectId } from '#core/model.ts';
import { stopFlag } from '#disk/threads/serve.ts';
import { FactsOfProjects } from '#server/archives/facts.ts';
import { projectSelection } from '#server/archives/selection.ts';
import { connect, disconnect } from '#server/db/connect.ts';
import { migrate } from '#server/db/migrate.ts';
import { readDocuments } from '#server/readings/read-documents.ts';
import { readVolume } from '#server/readings/read-volume.ts';
import { addVolume } from '#server/stores/stores.ts';
import { endPools, newPools } from '#server/worker.ts';
import { startDatabase } from '../setup/mariadb.ts';

const clips = Number(process.argv[2] ?? 20_000);
const BINS = 40;
const root = mkdtempSync(path.join(os.tmpdir(), 'bench-shaping-'));
const at = (...parts: string[]) => path.join(root, ...parts);

const time = (value: number) => ({ OTIO_SCHEMA: 'RationalTime.1', rate: 25, value });
const range = (start: number, duration: number) => ({
  OTIO_SCHEMA: 'TimeRange.1',
  start_time: time(start),
  duration: time(duration),
});
const clip = (url: string, source: object | null) => ({
  OTIO_SCHEMA: 'Clip.1',
  name: url,
  source_range: source,
  media_reference: { OTIO_SCHEMA: 'ExternalReference.1', target_url: url, available_range: range(0, 1000) },
});

const urls = Array.from({ length: clips }, (_, i) => `card${i % 100}/A${String(i).padStart(6, '0')}.mov`);
for (let i = 0; i < 100; i++) mkdirSync(at('media/fog', `card${i}`), { recursive: true });
for (const [i, url] of urls.entries()) writeFileSync(at('media/fog', url), `clip ${i}`);
const bins = Array.from({ length: BINS }, (_, b) => ({
  OTIO_SCHEMA: 'SerializableCollection.1',
  name: `Bin ${b}`,
  children: urls.filter((_url, i) => i % BINS === b).map((url) => clip(url, null)),
}));
// Half of all clips are used, each for two seconds.
const timelines = Array.from({ length: 5 }, (_, t) => ({
  OTIO_SCHEMA: 'Timeline.1',
  name: `Reel ${t + 1}`,
  tracks: {
    OTIO_SCHEMA: 'Stack.1',
    children: [
      {
        OTIO_SCHEMA: 'Track.1',
        kind: 'Video',
        children: urls.filter((_url, i) => i % 10 === t).map((url) => clip(url, range(100, 50))),
      },
    ],
  },
}));
const document = { OTIO_SCHEMA: 'SerializableCollection.1', name: 'Fog', children: [...bins, ...timelines] };
writeFileSync(at('media/fog/fog.otio'), JSON.stringify(document));

const server = await startDatabase(at('db'), { port: 0, durable: true });
const db = connect(server.url);
const pools = newPools();
await migrate(db);
const facts = { station: 'store', stationRole: 'server' as const, name: 'media', path: at('media') };
const volume = await addVolume(db, { ...facts, duty: 'none', quotaBytes: null }, new Date());
const reading = await readVolume(db, pools.walk, volume, { stop: stopFlag(), now: () => new Date() });
await readDocuments(db, pools.documents, volume, { now: () => new Date(), reading });

async function median(work: () => Promise<unknown>): Promise<number> {
  const times: number[] = [];
  for (let i = 0; i < 11; i++) {
    const began = performance.now();
    await work();
    times.push(performance.now() - began);
  }
  return times.sort((a, b) => a - b)[5]!;
}

const beside = await median(() =>
  db.execute(sql`
    SELECT COUNT(*), SUM(f.size_bytes) FROM files f WHERE f.id IN (
      SELECT t.file_id FROM media m JOIN media_targets t ON t.media_id = m.id WHERE m.project_id = 1 AND m.used = 1)`),
);
console.log(`one sum over the used files: ${beside.toFixed(0)} ms`);
const kept = new FactsOfProjects();
const handles = { value: 1, unit: 'seconds' as const, gapSeconds: 2 };
const SCOPES: Record<string, ArchiveScope> = {
  'all timelines, whole files': USUAL_SCOPE,
  'used ranges with handles': { ...USUAL_SCOPE, handles },
  'one timeline': { ...USUAL_SCOPE, timelines: ['Reel 1'] },
  'one timeline, used ranges': { ...USUAL_SCOPE, timelines: ['Reel 1'], handles },
  'unused media as well': { ...USUAL_SCOPE, parts: ['delivery', 'unused'] },
};
for (const [name, scope] of Object.entries(SCOPES)) {
  const { chosen } = await projectSelection(db, 1 as ProjectId, scope);
  const own = await median(() => projectSelection(db, 1 as ProjectId, scope));
  const again = await median(async () =>
    projectSelection(db, 1 as ProjectId, scope, { facts: await kept.of(db, 1 as ProjectId) }),
  );
  console.log(
    `${name}: asked anew ${own.toFixed(0)} ms, after another change ${again.toFixed(0)} ms, ${chosen.length} files, ${(again / beside).toFixed(1)} times`,
  );
}
await endPools(pools);
await disconnect(db);
await server.stop();
rmSync(root, { recursive: true });
