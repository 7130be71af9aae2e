// Daily samples of what volumes hold, and what they say: forecasts and what caused the growth. Called after every whole
// reading, by the rack, the site lens and `keramion forecast`.
import { and, eq, gte, inArray, sql } from 'drizzle-orm';
import type { RowDataPacket } from 'mysql2/promise';
import { type Forecast, forecast, growthCauses, type Sample } from '#core/forecast/forecast.ts';
import type { Kind, VolumeId } from '#core/model.ts';
import { type Database, withConnection } from '../db/connect.ts';
import { projects } from '../db/schema/projects.ts';
import { samples, sampleSums } from '../db/schema/sums.ts';

/** How far back the line looks: growth of half a year ago says little about next week. */
export const WEEKS_BACK = 8;

/**
 * Keeps what the volume holds now as its sample of `day` (days since 1970), and brings those that other volumes left
 * today up to date: a document that was just read may have given their files another owner.
 */
export async function leaveSamples(db: Database, volumeId: VolumeId, day: number): Promise<void> {
  await withConnection(db, async (connection) => {
    const [rows] = await connection.query<RowDataPacket[]>(
      'SELECT DISTINCT volume_id AS id FROM samples WHERE day = ?',
      [day],
    );
    const ids = [...new Set([volumeId, ...rows.map((row) => Number(row.id))])];
    await connection.query('DELETE FROM samples WHERE day = ? AND volume_id IN (?)', [day, ids]);
    await connection.query(
      `INSERT INTO samples (volume_id, day, project_id, kind, files, bytes)
       SELECT volume_id, ?, project_id, kind, SUM(files), SUM(bytes) FROM volume_sums WHERE volume_id IN (?) GROUP BY volume_id, project_id, kind`,
      [day, ids],
    );
    // An empty volume was read too: it held nothing, which is something to know.
    await connection.query('INSERT IGNORE INTO samples (volume_id, day, project_id, kind, files, bytes) VALUES ?', [
      ids.map((id) => [id, day, 0, 'other', 0, 0]),
    ]);
    await connection.query(
      'REPLACE INTO sample_sums (volume_id, day, bytes) SELECT volume_id, day, SUM(bytes) FROM samples WHERE day = ? AND volume_id IN (?) GROUP BY volume_id, day',
      [day, ids],
    );
  });
}

/** Samples of the last weeks by volume, summed over projects and kinds, oldest first. */
export async function samplesOf(db: Database, today: number): Promise<Map<VolumeId, Sample[]>> {
  const rows = await db
    .select()
    .from(sampleSums)
    .where(gte(sampleSums.day, today - WEEKS_BACK * 7))
    .orderBy(sampleSums.volumeId, sampleSums.day);
  const byVolume = new Map<VolumeId, Sample[]>();
  for (const { volumeId, ...sample } of rows) {
    const own = byVolume.get(volumeId as VolumeId);
    if (own) own.push(sample);
    else byVolume.set(volumeId as VolumeId, [sample]);
  }
  return byVolume;
}

export interface Growing {
  volumeId: VolumeId;
  samples: Sample[];
  forecast: Forecast;
}

/** The forecast of every volume given: the trend from its samples, the level from what is used now. */
export async function forecasts(
  db: Database,
  volumes: readonly { volumeId: VolumeId; capacityBytes: number; usedBytes: number }[],
  today: number,
): Promise<Growing[]> {
  const byVolume = await samplesOf(db, today);
  return volumes.map(({ volumeId, capacityBytes, usedBytes }) => {
    const own = (byVolume.get(volumeId) ?? []).filter((sample) => sample.day < today);
    const read = byVolume.has(volumeId) ? [...own, { day: today, bytes: usedBytes }] : [];
    return { volumeId, samples: read, forecast: forecast(read, capacityBytes, usedBytes) };
  });
}

export interface Cause {
  project: string | null;
  kind: Kind;
  bytes: number;
  share: number;
}

/** What grew most on these volumes between the last sample and the one a week before it, by project and kind. */
export async function causesOfGrowth(db: Database, volumeIds: readonly VolumeId[]): Promise<Cause[]> {
  if (volumeIds.length === 0) return [];
  const of = (day: number) =>
    db
      .select({ projectId: samples.projectId, kind: samples.kind, bytes: sql`SUM(${samples.bytes})`.mapWith(Number) })
      .from(samples)
      .where(and(inArray(samples.volumeId, [...volumeIds]), eq(samples.day, day)))
      .groupBy(samples.projectId, samples.kind);
  const days = (
    await db
      .selectDistinct({ day: sampleSums.day })
      .from(sampleSums)
      .where(inArray(sampleSums.volumeId, [...volumeIds]))
      .orderBy(sampleSums.day)
  ).map((row) => row.day);
  const last = days.at(-1);
  const before = days.filter((day) => last !== undefined && day <= last - 7).at(-1);
  if (last === undefined || before === undefined) return [];
  const keyed = (rows: Awaited<ReturnType<typeof of>>) =>
    new Map(rows.map((row) => [`${row.projectId} ${row.kind}`, row.bytes]));
  const names = new Map(
    (await db.select({ id: projects.id, name: projects.name }).from(projects)).map((p) => [p.id, p.name]),
  );
  return growthCauses(keyed(await of(before)), keyed(await of(last))).map(({ key, ...rest }) => {
    const [projectId, kind] = key.split(' ');
    return { project: names.get(Number(projectId)) ?? null, kind: kind as Kind, ...rest };
  });
}
