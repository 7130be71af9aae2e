// What the last reading of a volume could not read, or passed over, and why. Shown on the storage page.
import { desc, eq } from 'drizzle-orm';
import type { VolumeId } from '#core/model.ts';
import type { Database } from '../db/connect.ts';
import { readingNotices, readings } from '../db/schema/catalogue.ts';

export interface LastReading {
  startedMs: number;
  looked: number;
  total: number;
  notices: { path: string; code: string; detail: string }[];
}

export async function lastReading(db: Database, volumeId: VolumeId, most = 200): Promise<LastReading | null> {
  const [reading] = await db
    .select()
    .from(readings)
    .where(eq(readings.volumeId, volumeId))
    .orderBy(desc(readings.id))
    .limit(1);
  if (!reading) return null;
  const notices = await db
    .select({ path: readingNotices.path, code: readingNotices.code, detail: readingNotices.detail })
    .from(readingNotices)
    .where(eq(readingNotices.readingId, reading.id))
    .orderBy(readingNotices.id)
    .limit(most);
  return { startedMs: reading.startedAt.getTime(), looked: reading.looked, total: reading.notices, notices };
}
