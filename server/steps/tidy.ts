// What work that has ended left under private names: a worker that was stopped for longer than its lease may have taken a
// file after its work was done by another. Such files get their names back; copies and half-built folders whose originals
// are there go. Run when a worker starts and whenever something of the kind is found.
import { and, eq, inArray, sql } from 'drizzle-orm';
import { z } from 'zod';
import { counted } from '#core/wording/amounts.ts';
import { isSameFile, look } from '#disk/facts.ts';
import { removeFolder } from '#disk/folders.ts';
import { PRIVATE_FOLDER } from '#disk/identity.ts';
import { OutsideError } from '#disk/paths.ts';
import { isMissing } from '#disk/facts.ts';
import { type PrivateName, privateName, privateNames, privateNamesAt } from '#disk/private-names.ts';
import { type Held, putBackFrom, type Removal } from '#disk/remove.ts';
import type { Root } from '#disk/root.ts';
import { isOneFile, removeOwn } from '#disk/write.ts';
import { CarrierAway } from '../carriers/kind.ts';
import { openCarrier, placeOf } from '../carriers/kinds.ts';
import { type Database, type Db, inTransaction } from '../db/connect.ts';
import { jobs, jobStores } from '../db/schema/jobs.ts';
import { stepItems } from '../db/schema/plans.ts';
import { carriers, volumes } from '../db/schema/stores.ts';
import { siteMark } from '../db/site-mark.ts';
import type { JobContext } from '../runtime/context.ts';
import { enqueue, endJob } from '../runtime/queue.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';
import { endAfter, workKind } from '../runtime/work-kind.ts';

const params = z.object({ store: z.enum(['volume', 'carrier']), id: z.number().int() });

/** Marks of jobs of this database that have ended, among these. A mark that no job has is nobody's any more. */
async function endedMarks(db: Db, marks: readonly string[]): Promise<Set<string>> {
  const all = new Set(marks);
  if (all.size === 0) return all;
  const alive = await db
    .select({ mark: jobs.mark })
    .from(jobs)
    .where(and(inArray(jobs.mark, [...all]), inArray(jobs.state, ['queued', 'running'])));
  for (const { mark } of alive) all.delete(mark);
  return all;
}

type Item = typeof stepItems.$inferSelect;

export interface Leftover extends PrivateName {
  /** What the journal knows of it; null where nothing is known. */
  path: string | null;
}

/** Private names on a volume that belong to no work that still runs. */
export async function leftoversOn(db: Db, root: Root): Promise<{ leftovers: Leftover[]; foreign: string[] }> {
  const { known, foreign } = privateNames(root);
  const mark = await siteMark(db);
  const own = known.filter((name) => name.site === mark);
  const ended = await endedMarks(
    db,
    own.map((name) => name.job),
  );
  const left = own.filter((name) => ended.has(name.job));
  const leftovers: Leftover[] = [];
  for (const name of left) leftovers.push({ ...name, path: (await itemOf(db, name))?.path ?? null });
  return {
    leftovers,
    foreign: [...foreign, ...known.filter((name) => name.site !== mark).map((name) => privateName(name))],
  };
}

async function itemOf(db: Db, { item, job }: PrivateName): Promise<Item | null> {
  const [row] = await db
    .select({ item: stepItems })
    .from(stepItems)
    .innerJoin(jobs, eq(jobs.stepId, stepItems.stepId))
    .where(and(eq(stepItems.id, item), eq(jobs.mark, job)));
  return row?.item ?? null;
}

const removalOf = (item: Item): Removal => ({ itemId: item.id, path: item.path, raw: item.rawPath, expected: item });

/** Puts one thing in order; gives a line for the receipt, or null where it stays. */
async function tidyOne(context: JobContext, root: Root, name: PrivateName): Promise<string | null> {
  const at = `${PRIVATE_FOLDER}/${privateName(name)}`;
  const place = root.placeText(at);
  await context.assertLease();
  if (name.use === 'text' || name.use === 'cut') {
    removeOwn(place);
    return null;
  }
  // A folder that was being built: what it was built from is where it was.
  if (name.use === 'restore' || name.use === 'archive') {
    removeFolder(root, at);
    return null;
  }
  const item = await itemOf(context.db, name);
  if (!item) return null;
  if (name.use === 'out') {
    if (look(place).is === 'gone') return null;
    const back: Held = putBackFrom(root, place, removalOf(item), { reason: 'changed' });
    return `${item.path} put back${back.reason === 'name taken' ? ` as ${back.detail}` : ''}`;
  }
  if (name.use === 'copy' && (await isSpare(context, item, { root, place }))) removeOwn(place);
  return null;
}

/**
 * A copy is spare where its original is there, where it has its place already under another name, or where the one that was
 * read back and written down has: a worker that had lost the work may have made another beside it.
 */
async function isSpare(
  context: JobContext,
  item: Item,
  { root, place }: { root: Root; place: string },
): Promise<boolean> {
  // What came from an archive is there still.
  if (item.archiveFileId !== null || item.fileId === 0) return true;
  if (item.targetPath !== null && isAt(root, item.targetPath, (target) => isOneFile(place, target))) return true;
  const { state, copyDevice: device, copyInode: inode } = item;
  const isTheOne = (target: string) => {
    const facts = look(target);
    return (
      facts.is === 'file' && facts.device === device && facts.inode === inode && facts.sizeBytes === item.sizeBytes
    );
  };
  if (state === 'done' && item.targetPath !== null && inode !== null && isAt(root, item.targetPath, isTheOne))
    return true;
  const from = await context.root(item.volumeId);
  return (
    from !== null &&
    isAt(from, item.path, (original) => {
      const facts = look(original);
      return facts.is === 'file' && isSameFile(facts, item);
    })
  );
}

function isAt(root: Root, path: string, test: (place: string) => boolean): boolean {
  try {
    return test(root.placeText(path));
  } catch (error) {
    if (isMissing(error) || error instanceof OutsideError) return false;
    throw error;
  }
}

async function tidyVolume(context: JobContext, volumeId: number): Promise<string[]> {
  const root = await context.root(volumeId);
  if (!root) return [];
  const lines: string[] = [];
  for (const name of (await leftoversOn(context.db, root)).leftovers) {
    const line = await tidyOne(context, root, name);
    if (line !== null) lines.push(line);
  }
  return lines;
}

async function tidyCarrier(context: JobContext, carrierId: number): Promise<void> {
  const [row] = await context.db.select().from(carriers).where(eq(carriers.id, carrierId));
  if (!row) return;
  try {
    const carrier = await openCarrier(placeOf(row, context.carrierPath(carrierId)));
    try {
      const packs = await carrier.unfinished(await siteMark(context.db));
      const ended = await endedMarks(
        context.db,
        packs.map((pack) => pack.job),
      );
      for (const pack of packs) {
        await context.assertLease();
        // The originals of what was never sealed are where they were.
        if (ended.has(pack.job)) await carrier.discard({ ...pack, folder: '' });
      }
    } finally {
      await carrier.close();
    }
  } catch (error) {
    if (!(error instanceof CarrierAway)) throw error;
  }
}

export const tidyWork = workKind<z.infer<typeof params>>({
  kind: 'tidy',
  params,
  async run(context, { store, id }) {
    try {
      const lines = store === 'volume' ? await tidyVolume(context, id) : [];
      if (store === 'carrier') await tidyCarrier(context, id);
      const [volume] = await context.db.select({ name: volumes.name }).from(volumes).where(eq(volumes.id, id));
      await context.transaction(async (tx) => {
        if (lines.length > 0)
          await writeReceipt(tx, {
            at: context.now(),
            who: context.job.who,
            action: 'left files put back',
            title: `${counted(lines.length, 'file')} that ended work had left aside on ${volume?.name ?? 'a volume'} put back`,
            jobId: context.job.id,
            files: lines.length,
            bytes: 0,
            held: 0,
            facts: { files: lines.slice(0, 200) },
            itemsSha256: itemsHash(lines),
          });
        await endJob(tx, context.job, { state: 'done' });
      });
    } catch (thrown) {
      await endAfter(context, thrown);
    }
  },
});

/** Asks for stores to be tidied where something of ended work lies under private names. */
export async function askToTidy(
  db: Database,
  reach: { volumes: ReadonlyMap<number, string>; carriers: ReadonlyMap<number, string | null> },
  now: Date,
): Promise<number> {
  const mark = await siteMark(db);
  const wanted: z.infer<typeof params>[] = [];
  for (const [id, path] of reach.volumes)
    if (await hasEnded(db, mark, await privateNamesAt(path))) wanted.push({ store: 'volume', id });
  for (const id of reach.carriers.keys()) {
    const [row] = await db.select().from(carriers).where(eq(carriers.id, id));
    if (row && (await hasUnfinished(db, mark, placeOf(row, reach.carriers.get(id) ?? null))))
      wanted.push({ store: 'carrier', id });
  }
  let put = 0;
  for (const { store, id } of wanted)
    put += await inTransaction(db, async (tx) => {
      const [waiting] = await tx
        .select({ id: jobs.id })
        .from(jobs)
        .innerJoin(jobStores, eq(jobStores.jobId, jobs.id))
        .where(
          sql`${jobs.kind} = ${tidyWork.kind} AND ${jobs.state} IN ('queued', 'running') AND ${jobStores.store} = ${store} AND ${jobStores.storeId} = ${id}`,
        );
      if (waiting) return 0;
      await enqueue(
        tx,
        {
          kind: tidyWork.kind,
          title: 'Put back what ended work left aside',
          params: { store, id },
          who: 'Keramion',
          quiet: true,
          stores: [{ store, id, mode: 'change' }],
        },
        now,
      );
      return 1;
    });
  return put;
}

async function hasEnded(db: Db, mark: string, names: readonly PrivateName[]): Promise<boolean> {
  const own = names.filter((name) => name.site === mark).map((name) => name.job);
  return (await endedMarks(db, own)).size > 0;
}

async function hasUnfinished(db: Db, mark: string, place: Parameters<typeof openCarrier>[0]): Promise<boolean> {
  try {
    const carrier = await openCarrier(place);
    try {
      const packs = await carrier.unfinished(mark);
      return (
        (
          await endedMarks(
            db,
            packs.map((pack) => pack.job),
          )
        ).size > 0
      );
    } finally {
      await carrier.close();
    }
  } catch (error) {
    if (error instanceof CarrierAway) return false;
    throw error;
  }
}
