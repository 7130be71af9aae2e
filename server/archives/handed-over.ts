// What was handed over of a project: to whom, when, and where it was written. Asked by the page that shapes the next.
import { desc, eq } from 'drizzle-orm';
import type { ProjectId } from '#core/model.ts';
import type { Db } from '../db/connect.ts';
import { handedOver } from '../db/schema/archives.ts';
import { volumes } from '../db/schema/stores.ts';

export interface HandedOver {
  id: number;
  toWhom: string;
  folder: string;
  volume: string;
  atMs: number;
  bytes: number;
}

/** The latest first. */
export async function handedOverOf(db: Db, projectId: ProjectId): Promise<HandedOver[]> {
  const rows = await db
    .select({ row: handedOver, volume: volumes.name })
    .from(handedOver)
    .innerJoin(volumes, eq(volumes.id, handedOver.volumeId))
    .where(eq(handedOver.projectId, projectId))
    .orderBy(desc(handedOver.id))
    .limit(20);
  return rows.map(({ row: { id, toWhom, folder, bytes, at }, volume }) => ({
    ...{ id, toWhom, folder, bytes, volume, atMs: at.getTime() },
  }));
}
