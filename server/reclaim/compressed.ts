// Sounds of libraries that are kept in a compressed form: programs decode each they use into a cache of their own, so a small
// library makes large caches. Counted while what may go is assessed.
import { eq } from 'drizzle-orm';
import type { Kind, VolumeId } from '#core/model.ts';
import { endingOf } from '#core/paths.ts';
import type { Db, Transaction } from '../db/connect.ts';
import { site } from '../db/schema/site.ts';

const COMPRESSED = new Set(['mp3', 'm4a', 'aac', 'ogg', 'oga', 'opus', 'flac', 'wma']);
const KEY = 'compressed sounds of libraries';

export type CompressedSounds = Map<number, { files: number; bytes: number }>;

interface Seen {
  volumeId: number;
  name: string;
  sizeBytes: number;
  kind: Kind;
}

export function addCompressed(sums: CompressedSounds, files: readonly Seen[]): void {
  for (const { volumeId, name, sizeBytes, kind } of files) {
    if (kind !== 'library' || !COMPRESSED.has(endingOf(name))) continue;
    const sum = sums.get(volumeId) ?? { files: 0, bytes: 0 };
    sums.set(volumeId, { files: sum.files + 1, bytes: sum.bytes + sizeBytes });
  }
}

export async function keepCompressed(tx: Transaction, sums: CompressedSounds): Promise<void> {
  const value = JSON.stringify([...sums].map(([volumeId, sum]) => ({ volumeId, ...sum })));
  await tx.insert(site).values({ key: KEY, value }).onDuplicateKeyUpdate({ set: { value } });
}

/** By volume, as the last assessment saw them. */
export async function compressedSounds(db: Db): Promise<{ volumeId: VolumeId; files: number; bytes: number }[]> {
  const [row] = await db.select().from(site).where(eq(site.key, KEY));
  return row ? (JSON.parse(row.value) as { volumeId: VolumeId; files: number; bytes: number }[]) : [];
}
