// What is free on a volume: of a quota what the catalogue leaves, else what its file system said when last looked at.
import { eq, sql } from 'drizzle-orm';
import type { VolumeId } from '#core/model.ts';
import { asideByVolume } from '../db/aside.ts';
import type { Db } from '../db/connect.ts';
import { volumes } from '../db/schema/stores.ts';
import { volumeSums } from '../db/schema/sums.ts';

export async function usedByVolume(db: Db): Promise<Map<number, number>> {
  const rows = await db
    .select({ id: volumeSums.volumeId, bytes: sql`SUM(${volumeSums.bytes})`.mapWith(Number) })
    .from(volumeSums)
    .groupBy(volumeSums.volumeId);
  const used = new Map(rows.map((row) => [row.id, row.bytes]));
  // What lies aside takes its space still.
  for (const [id, bytes] of await asideByVolume(db)) used.set(id, (used.get(id) ?? 0) + bytes);
  return used;
}

export async function volumeFree(db: Db, volumeId: VolumeId): Promise<number> {
  const [volume] = await db.select().from(volumes).where(eq(volumes.id, volumeId));
  if (!volume) return 0;
  if (!volume.quota) return volume.freeBytes;
  return Math.max(0, volume.capacityBytes - ((await usedByVolume(db)).get(volumeId) ?? 0));
}
