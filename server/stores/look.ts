// Looking whether a volume or carrier is there and is the one it should be, from where this worker stands. What one worker
// does not reach another may: so a look that finds nothing changes nothing that is known.
import { eq } from 'drizzle-orm';
import type { VolumeId } from '#core/model.ts';
import { size } from '#core/wording/amounts.ts';
import { lookAtStore, type StoreLook } from '#disk/identity.ts';
import { carrierKindOf } from '../carriers/kinds.ts';
import { type Database, type Db, inTransaction } from '../db/connect.ts';
import { carriers, type STORE_STATES, volumes } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';

type Volume = typeof volumes.$inferSelect;
export type StoreState = (typeof STORE_STATES)[number];

/** Never by path alone: another disk mounted there is 'swapped'. */
export const stateSeen = (look: { state: string; identity?: string | null }, identity: string | null): StoreState =>
  look.state === 'unreachable' ? 'unreachable' : look.identity === identity ? 'reachable' : 'swapped';

/** Looks at one volume and keeps what was seen where it is there. */
export async function lookAtVolume(
  db: Database,
  volumeId: VolumeId,
  { now, path }: { now: Date; path?: string },
): Promise<Volume & { state: StoreState; foundAt: string }> {
  const [volume] = await db.select().from(volumes).where(eq(volumes.id, volumeId));
  if (!volume) throw new Refused(`There is no volume with the number ${volumeId}. Nothing was changed.`);
  const foundAt = path ?? volume.path;
  const look = await lookAtStore(foundAt);
  const state = stateSeen(look, volume.identity);
  if (state !== 'reachable' || look.state !== 'reachable') return { ...volume, state, foundAt };
  const seen = whatWasSeen(volume, look, now);
  await inTransaction(db, (tx) => keepLook(tx, volumeId, seen));
  return { ...volume, ...seen, foundAt };
}

const whatWasSeen = (volume: Volume, look: Extract<StoreLook, { state: 'reachable' }>, now: Date) => ({
  state: 'reachable' as const,
  freeBytes: look.freeBytes,
  seenAt: now,
  readOnly: !look.writable,
  // What cannot be true does not take the place of what was measured before.
  ...(volume.quota || !look.credible ? {} : { capacityBytes: look.totalBytes }),
});

const keepLook = (db: Db, volumeId: number, seen: Partial<Volume>) =>
  db.update(volumes).set(seen).where(eq(volumes.id, volumeId));

/** Folders of this machine that carriers take up. */
export async function carrierFolders(db: Db): Promise<string[]> {
  const rows = await db.select({ kind: carriers.kind, settings: carriers.settings }).from(carriers);
  return rows.flatMap((row) => {
    const kind = carrierKindOf(row.kind);
    const parsed = kind.settings.safeParse(row.settings);
    return parsed.success ? [...kind.folders(parsed.data)] : [];
  });
}

/** The sentence for a store that has no room. */
export const tooSmall = (name: string, needed: number, free: number, done = 'written'): string =>
  `${name} has ${size(free)} free and ${size(needed)} is needed. Nothing was ${done}. Choose another, or free some space first.`;
