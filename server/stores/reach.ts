// What each worker reaches, and what follows from all of them: a store is reachable while a living worker reaches it,
// whatever another finds at its own path. A worker takes only work on what it reaches itself.
import { eq, isNull, sql } from 'drizzle-orm';
import { grouped } from '#core/grouped.ts';
import { lookAtStore } from '#disk/identity.ts';
import { carrierKindOf, placeOf } from '../carriers/kinds.ts';
import { type Database, type Db, inTransaction, type Transaction } from '../db/connect.ts';
import { carriers, openNow, volumes, workerReach, workers } from '../db/schema/stores.ts';
import { type StoreState, stateSeen } from './look.ts';

/** Paths that this worker has to stores, by their names, where they are not the registered ones. */
export type OwnPaths = Readonly<Record<string, string>>;

export interface Reach {
  volumes: ReadonlyMap<number, string>;
  carriers: ReadonlyMap<number, string | null>;
}

/** A worker that gave no sign for so long does not count. */
export const ALIVE_SECONDS = 30;
/** Of a worker in `workers`. */
export const ALIVE = sql`${workers.seenAt} >= UTC_TIMESTAMP(3) - INTERVAL ${ALIVE_SECONDS} SECOND`;
/** A mount whose server is gone answers nothing for minutes: that is a no. */
const LOOK_AT_MOST_MS = 4_000;

/** Enters a worker, or says that it is at work again. */
export async function signIn(db: Database, worker: { name: string; machine: string }): Promise<number> {
  return inTransaction(db, async (tx) => {
    await tx
      .insert(workers)
      .values({ ...worker, seenAt: sql`UTC_TIMESTAMP(3)` as unknown as Date })
      .onDuplicateKeyUpdate({ set: { machine: worker.machine, seenAt: sql`UTC_TIMESTAMP(3)` } });
    const [row] = await tx.select({ id: workers.id }).from(workers).where(eq(workers.name, worker.name));
    // Those that went long ago say nothing any more.
    await tx.execute(
      sql`DELETE r FROM worker_reach r LEFT JOIN workers w ON w.id = r.worker_id WHERE w.id IS NULL OR w.seen_at < UTC_TIMESTAMP(3) - INTERVAL 1 DAY`,
    );
    await tx.execute(
      sql`DELETE o FROM open_now o LEFT JOIN workers w ON w.id = o.worker_id WHERE w.id IS NULL OR w.seen_at < UTC_TIMESTAMP(3) - INTERVAL 1 DAY`,
    );
    await tx.execute(sql`DELETE FROM workers WHERE seen_at < UTC_TIMESTAMP(3) - INTERVAL 1 DAY`);
    return row!.id;
  });
}

/** True where one living worker reaches all of them. */
export async function reachedTogether(
  db: Db,
  { volumeIds, carrierIds }: { volumeIds: readonly number[]; carrierIds: readonly number[] },
): Promise<boolean> {
  const wanted = new Set([...volumeIds.map((id) => `volume ${id}`), ...carrierIds.map((id) => `carrier ${id}`)]);
  const rows = await db
    .select({ worker: workerReach.workerId, store: workerReach.store, id: workerReach.storeId })
    .from(workerReach)
    .innerJoin(workers, eq(workers.id, workerReach.workerId))
    .where(sql`${workerReach.state} = 'reachable' AND ${ALIVE}`);
  const byWorker = grouped(
    rows.filter(({ store, id }) => wanted.has(`${store} ${id}`)),
    (row) => row.worker,
  );
  return [...byWorker.values()].some((own) => own.length === wanted.size);
}

/** Says that a worker has stopped: what only it reached is not reachable any more. */
export async function signOut(db: Database, workerId: number): Promise<void> {
  await inTransaction(db, async (tx) => {
    await tx.delete(workerReach).where(eq(workerReach.workerId, workerId));
    await tx.delete(openNow).where(eq(openNow.workerId, workerId));
    await tx.delete(workers).where(eq(workers.id, workerId));
    await recomputeStates(tx);
  });
}

interface Seen {
  store: 'volume' | 'carrier';
  id: number;
  path: string;
  state: StoreState;
  facts: Record<string, unknown>;
}

/** Looks at every store from where this worker stands, and writes down what it sees. */
export async function lookAtStores(db: Database, workerId: number, paths: OwnPaths): Promise<Reach> {
  const seen = [...(await seenVolumes(db, paths)), ...(await seenCarriers(db, paths))];
  await inTransaction(db, async (tx) => {
    await tx
      .update(workers)
      .set({ seenAt: sql`UTC_TIMESTAMP(3)` })
      .where(eq(workers.id, workerId));
    await tx.delete(workerReach).where(eq(workerReach.workerId, workerId));
    if (seen.length > 0)
      await tx.insert(workerReach).values(
        seen.map(({ store, id, path, state }) => ({
          workerId,
          store,
          storeId: id,
          path,
          state,
          seenAt: sql`UTC_TIMESTAMP(3)` as unknown as Date,
        })),
      );
    for (const { store, id, state, facts } of seen) {
      if (state !== 'reachable') continue;
      const kept = { ...facts, seenAt: sql`UTC_TIMESTAMP(3)` };
      if (store === 'volume') await tx.update(volumes).set(kept).where(eq(volumes.id, id));
      else await tx.update(carriers).set(kept).where(eq(carriers.id, id));
    }
    await recomputeStates(tx);
  });
  const reached = (store: string) => seen.filter((one) => one.store === store && one.state === 'reachable');
  return {
    volumes: new Map(reached('volume').map((one) => [one.id, one.path])),
    carriers: new Map(reached('carrier').map((one) => [one.id, one.path === '' ? null : one.path])),
  };
}

/** States follow from the living workers. Where none of them knows a store, its last state stays. */
async function recomputeStates(tx: Transaction): Promise<void> {
  for (const [table, store] of [
    ['volumes', 'volume'],
    ['carriers', 'carrier'],
  ] as const)
    await tx.execute(
      sql.raw(`UPDATE ${table} s JOIN (
        SELECT r.store_id, MAX(r.state = 'reachable') AS reached, MAX(r.state = 'swapped') AS swapped FROM worker_reach r
        JOIN workers w ON w.id = r.worker_id AND w.seen_at > UTC_TIMESTAMP(3) - INTERVAL ${ALIVE_SECONDS} SECOND
        WHERE r.store = '${store}' GROUP BY r.store_id) x ON x.store_id = s.id
      SET s.state = IF(x.reached, 'reachable', IF(x.swapped, 'swapped', 'unreachable'))`),
    );
}

async function seenVolumes(db: Database, paths: OwnPaths): Promise<Seen[]> {
  const all = await db.select().from(volumes).where(isNull(volumes.retiredAt));
  return Promise.all(
    all.map(async (volume): Promise<Seen> => {
      const path = paths[volume.name] ?? volume.path;
      const look = await withinTime(lookAtStore(path));
      const state = stateSeen(look, volume.identity);
      const facts =
        look.state === 'reachable'
          ? {
              freeBytes: look.freeBytes,
              readOnly: !look.writable,
              ...(volume.quota || !look.credible ? {} : { capacityBytes: look.totalBytes }),
            }
          : {};
      return { store: 'volume', id: volume.id, path, state, facts };
    }),
  );
}

async function seenCarriers(db: Database, paths: OwnPaths): Promise<Seen[]> {
  const all = await db.select().from(carriers);
  return Promise.all(
    all.map(async (carrier): Promise<Seen> => {
      const own = paths[carrier.name] ?? null;
      const { settings } = placeOf(carrier, own);
      const look = await withinTime(carrierKindOf(carrier.kind).look(settings));
      const facts = look.state === 'reachable' ? { freeBytes: look.freeBytes, facts: look.facts ?? null } : {};
      return { store: 'carrier', id: carrier.id, path: own ?? '', state: stateSeen(look, carrier.identity), facts };
    }),
  );
}

async function withinTime<Look>(look: Promise<Look>): Promise<Look | { state: 'unreachable'; code: string }> {
  let timer: NodeJS.Timeout;
  const late = new Promise<{ state: 'unreachable'; code: string }>((resolve) => {
    timer = setTimeout(() => resolve({ state: 'unreachable', code: 'ETIMEDOUT' }), LOOK_AT_MOST_MS);
  });
  return Promise.race([look, late]).finally(() => clearTimeout(timer));
}
