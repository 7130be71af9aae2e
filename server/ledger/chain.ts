// Whether the ledger is as it was written. All of it is looked through once, then in the background every few minutes; between that what
// is new, and what is shown is compared with the receipt before it each time. Kept by the process that shows it.
import { desc, inArray, lt } from 'drizzle-orm';
import type { Database } from '../db/connect.ts';
import { receipts } from '../db/schema/receipts.ts';
import { brokenSince, type Checkpoint, fitsBefore, type Receipt, START } from '../runtime/receipts.ts';

const WHOLE_EVERY_MS = 10 * 60_000;

interface Known {
  broken: Set<number>;
  upTo: Checkpoint;
  wholeAtMs: number;
  /** Looked through anew just now. */
  anew: Promise<void> | null;
}

const known = new WeakMap<Database, Promise<Known>>();

async function whole(db: Database, nowMs: number): Promise<Known> {
  const { broken, next } = await brokenSince(db, START);
  return { broken: new Set(broken), upTo: next, wholeAtMs: nowMs, anew: null };
}

/** Receipts that do not fit the one before them, as far as is known by now. */
export async function brokenByNow(db: Database, nowMs: number): Promise<ReadonlySet<number>> {
  let asked = known.get(db);
  if (!asked) {
    asked = whole(db, nowMs);
    known.set(db, asked);
    // What could not be asked is asked again the next time.
    asked.catch(() => known.delete(db));
  }
  const own = await asked;
  if (nowMs - own.wholeAtMs > WHOLE_EVERY_MS && own.anew === null)
    own.anew = whole(db, nowMs)
      .then((fresh) => void known.set(db, Promise.resolve(fresh)))
      .catch(() => undefined)
      .finally(() => (own.anew = null));
  const { broken, next } = await brokenSince(db, own.upTo);
  for (const id of broken) own.broken.add(id);
  if (next.last > own.upTo.last) own.upTo = next;
  return own.broken;
}

/** Which of these do not fit the one before them, looked at now. */
export async function brokenAmong(db: Database, shown: readonly Receipt[]): Promise<Set<number>> {
  const broken = new Set<number>();
  if (shown.length === 0) return broken;
  const before = new Map<number, Receipt | null>();
  const sorted = [...shown].sort((a, b) => a.id - b.id);
  const ids = new Map(sorted.map((receipt) => [receipt.id, receipt]));
  const direct = await db
    .select()
    .from(receipts)
    .where(
      inArray(
        receipts.id,
        sorted.map(({ id }) => id - 1),
      ),
    );
  for (const receipt of direct) ids.set(receipt.id, receipt);
  for (const { id } of sorted) {
    const near = ids.get(id - 1);
    // Numbers have gaps where something that was begun was not written.
    const [far] = near
      ? [near]
      : await db.select().from(receipts).where(lt(receipts.id, id)).orderBy(desc(receipts.id)).limit(1);
    before.set(id, far ?? null);
  }
  for (const receipt of sorted) if (!fitsBefore(receipt, before.get(receipt.id) ?? null)) broken.add(receipt.id);
  return broken;
}
