// Reach at 300 projects, 2,000 timelines and 3 million uses: of a project whole, of chosen timelines and what they do not
// reach, and the site brought up to date after one document changed; beside one query of raw SQL over all uses.
// usage: npm run bench -- reach [rounds]
import { eq } from 'drizzle-orm';
import type { DocumentModel } from '#core/documents/model.ts';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { documentPool } from '#disk/documents/documents.ts';
import { disconnect, inTransaction } from '#server/db/connect.ts';
import { documents } from '#server/db/schema/documents.ts';
import { forgetContents, writeContents } from '#server/db/documents.ts';
import { type ClipFilter, projectBins, projectClips, projectTimelines, WHOLE_PROJECT } from '#server/reach/clips.ts';
import { updateAfterDocuments } from '#server/readings/read-documents.ts';
import { largeCatalogue } from './catalogue.ts';

const rounds = Number(process.argv[2] ?? 10);
const { server, db } = await largeCatalogue();
const projectId = 8 as ProjectId;
const { documentIds } = await projectBins(db, projectId);
const timelines = await projectTimelines(db, documentIds);
const ask = (more: Partial<ClipFilter>) =>
  projectClips(db, {
    projectId,
    documentIds,
    bin: 'all',
    show: 'all',
    scope: WHOLE_PROJECT,
    text: '',
    kind: null,
    ...more,
  });
const two = { ...WHOLE_PROJECT, timelineIds: timelines.slice(0, 2).map((one) => one.timelineId) };

const timed = async (work: () => Promise<unknown>): Promise<number> => {
  const start = performance.now();
  await work();
  return performance.now() - start;
};
const at = (values: number[], share: number) =>
  [...values].sort((a, b) => a - b)[Math.min(values.length - 1, Math.floor(values.length * share))]!;
async function tell(name: string, work: () => Promise<unknown>, times = rounds): Promise<void> {
  const took: number[] = [];
  for (let i = 0; i < times; i++) took.push(await timed(work));
  console.log(
    `${name.padEnd(46)} median ${at(took, 0.5).toFixed(0).padStart(6)} ms   p95 ${at(took, 0.95).toFixed(0).padStart(6)} ms`,
  );
}

await tell('a project, whole', () => ask({}));
await tell('what two of its timelines reach', () => ask({ scope: two, show: 'used' }));
await tell('what they do not reach', () => ask({ scope: two, show: 'unused' }));
await tell('two timelines compared: only in the first', () => ask({ scope: two, show: 'first' }));
await tell('borrowed from others', () => ask({ show: 'borrowed' }));
const pool = documentPool();
const model = await modelOf();
await tell(
  `one document of ${model.timelines.length} timelines changed`,
  async () => {
    const now = new Date();
    await inTransaction(db, async (tx) => {
      await forgetContents(tx, documentIds[0]!);
      await writeContents(tx, { documentId: documentIds[0]!, projectId, model });
      await tx.update(documents).set({ readAt: now }).where(eq(documents.id, documentIds[0]!));
    });
    await updateAfterDocuments(db, pool, { volumeId: 1 as VolumeId, since: now, touched: [] });
  },
  3,
);
await tell(
  'raw SQL: used frames of all media, not joined',
  () =>
    db.$pool.query('SELECT media_id, MIN(start_frame), MAX(start_frame + duration_frames) FROM uses GROUP BY media_id'),
  2,
);
await pool.end();
await disconnect(db);
await server.stop();

/** The document as it is in the catalogue, to be written once more. */
async function modelOf(): Promise<DocumentModel> {
  const [media] = await db.$pool.query<never[]>(
    "SELECT m.id, m.name, CONCAT(v.path, '/', d.path, '/', f.name) AS target FROM media m JOIN media_targets t ON t.media_id = m.id JOIN files f ON f.id = t.file_id JOIN folders d ON d.id = f.folder_id JOIN volumes v ON v.id = f.volume_id WHERE m.document_id = ? ORDER BY m.id",
    [documentIds[0]],
  );
  const rows = media as { id: number; name: string; target: string }[];
  const keys = new Map(rows.map((row, i) => [Number(row.id), i]));
  const rate = { num: 25, den: 1 };
  const model: DocumentModel = {
    name: 'one',
    bins: [{ key: 0, parent: null, name: 'Day 1' }],
    media: rows.map((row, key) => ({
      key,
      name: row.name,
      target: row.target,
      stills: null,
      available: { range: { start: 90_000, duration: 5000 }, rate },
      reel: null,
    })),
    clips: rows.map((row, key) => ({ bin: 0, name: row.name, media: key })),
    timelines: [],
    notes: [],
  };
  for (const timeline of timelines) {
    const [uses] = await db.$pool.query<never[]>(
      'SELECT media_id AS m, start_frame AS s, duration_frames AS d FROM uses WHERE timeline_id = ?',
      [timeline.timelineId],
    );
    model.timelines.push({
      bin: null,
      name: timeline.name,
      durationFrames: 90_000,
      rate,
      uses: (uses as { m: number; s: number; d: number }[]).map((use) => ({
        media: keys.get(Number(use.m))!,
        range: { start: Number(use.s), duration: Number(use.d) },
        rate,
        enabled: true,
        sound: false,
      })),
    });
  }
  return model;
}
