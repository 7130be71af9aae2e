// Registers the demo site through the same services a person's clicks reach, reads it, and sets the two states that
// only a person can know.
import path from 'node:path';
import { eq, sql } from 'drizzle-orm';
import { documentPool } from '#disk/documents/documents.ts';
import { stopFlag } from '#disk/threads/serve.ts';
import { walkPool } from '#disk/walk/walk.ts';
import type { ProjectId } from '#core/model.ts';
import type { Database } from '#server/db/connect.ts';
import { projects } from '#server/db/schema.ts';
import { readDocuments } from '#server/jobs/read-documents.ts';
import { readVolume } from '#server/jobs/read-volume.ts';
import { nameSite } from '#server/services/site.ts';
import { takeSuggestedHomes } from '#server/services/homes.ts';
import { setMount } from '#server/services/places.ts';
import { setState } from '#server/services/projects.ts';
import { addCarrier, addVolume } from '#server/services/stores.ts';
import { CARRIERS, MOUNTS, STATES, VOLUMES } from './site.ts';

const DAY_MS = 86_400_000;

export async function registerSite(db: Database, root: string, now: Date): Promise<void> {
  await nameSite(db, 'Saltpan House');
  const ids = [];
  for (const v of VOLUMES)
    ids.push(
      await addVolume(
        db,
        {
          station: v.station,
          stationRole: v.role,
          name: v.name,
          path: path.join(root, v.folder),
          duty: v.duty,
          quotaBytes: v.quota,
        },
        now,
      ),
    );
  for (const c of CARRIERS)
    await addCarrier(
      db,
      { name: c.name, type: 'disk', place: c.place, path: path.join(root, c.folder), capacityBytes: c.capacity },
      now,
    );
  for (const m of MOUNTS)
    await setMount(
      db,
      { volumeId: ids[VOLUMES.findIndex((v) => v.name === m.volume)]!, station: m.station, path: m.path },
      { who: 'Saltpan House', now },
    );
  const [walking, reading] = [walkPool(), documentPool()];
  try {
    for (const id of ids) await readVolume(db, walking, id, { stop: stopFlag(), now: () => now });
    for (const id of ids) await readDocuments(db, reading, id, () => now);
  } finally {
    await Promise.all([walking.end(), reading.end()]);
  }
  await leavePastSamples(db, Math.floor(now.getTime() / DAY_MS));
  for (const { project, state, days } of STATES) {
    const [row] = await db.select().from(projects).where(eq(projects.name, project));
    if (row) await takeSuggestedHomes(db, row.id as ProjectId, { who: 'Saltpan House', now });
    if (row)
      await setState(db, {
        projectId: row.id as ProjectId,
        state,
        since: new Date(now.getTime() - days * DAY_MS),
        who: 'Saltpan House',
        now,
      });
  }
}

/** Eight weeks of samples, as readings of those days would have left them: what was there is what was changed before. */
async function leavePastSamples(db: Database, today: number): Promise<void> {
  for (let day = today - 56; day < today; day++)
    await db.execute(sql`
      INSERT INTO samples (volume_id, day, project_id, kind, files, bytes)
      SELECT volume_id, ${day}, project_id, kind, SUM(files), SUM(bytes) FROM volume_holdings WHERE day <= ${day} GROUP BY volume_id, project_id, kind`);
}
