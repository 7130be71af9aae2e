// The check of everything that Keramion says: sums against files, the ledger's chain and its items, private folders, and
// the catalogue against the disks. Run weekly, by `keramion check`, and whenever somebody asks. What it finds is kept for
// the Site lens until the next check finds nothing.
import { and, asc, desc, eq, gt, isNull, isNotNull, sql } from 'drizzle-orm';
import type { RowDataPacket } from 'mysql2/promise';
import { z } from 'zod';
import { sumFile } from '#disk/content/content.ts';
import { codeOf, isMissing, isUnchanged, look } from '#disk/facts.ts';
import { OutsideError, type CataloguedNames, placeOfFile } from '#disk/paths.ts';
import type { PrivateUse } from '#disk/private-names.ts';
import type { Root } from '#disk/root.ts';
import { type Database, type Db, inTransaction } from '../db/connect.ts';
import { jobs } from '../db/schema/jobs.ts';
import { receipts } from '../db/schema/receipts.ts';
import { site } from '../db/schema/site.ts';
import { snapshots } from '../db/schema/snapshots.ts';
import { volumes } from '../db/schema/stores.ts';
import type { JobContext } from '../runtime/context.ts';
import { endJob, enqueue } from '../runtime/queue.ts';
import { brokenReceipts, itemsHash, writeReceipt } from '../runtime/receipts.ts';
import { ITEM_LINES, tallyOf } from '../runtime/run-items.ts';
import { endAfter, workKind } from '../runtime/work-kind.ts';
import { begunMs } from '../site/night-hours.ts';
import { leftoversOn } from '../steps/tidy.ts';
import { checkSums } from './sums.ts';

export const FOUND_IN = ['sums', 'ledger', 'private folders', 'snapshots', 'disks'] as const;
export interface Finding {
  in: (typeof FOUND_IN)[number];
  detail: string;
}
export interface CheckResult {
  atMs: number;
  repaired: boolean;
  /** Files of the catalogue that were looked at on their disks. */
  looked: number;
  findings: Finding[];
}

const KEY = 'last check';
export const EVERY_DAYS = 7;
/** Files looked at on each volume where not all are. */
const SAMPLE = 400;
const PAGE = 1000;
const MOST_TOLD = 200;

const params = z.object({ repair: z.boolean().default(false), whole: z.boolean().default(false) });

export async function checkLedger(db: Db & Pick<Database, '$pool'>): Promise<Finding[]> {
  const findings: Finding[] = (await brokenReceipts(db as Database)).map((id) => ({
    in: 'ledger',
    detail: `receipt ${id} does not fit the one before it: it was changed, removed or put in from outside`,
  }));
  for (let last = 0; ;) {
    const page = await db
      .select({ id: receipts.id, stepId: receipts.stepId, itemsSha256: receipts.itemsSha256, facts: receipts.facts })
      .from(receipts)
      .where(and(gt(receipts.id, last), isNotNull(receipts.stepId)))
      .orderBy(asc(receipts.id))
      .limit(PAGE);
    for (const receipt of page) {
      last = receipt.id;
      // Receipts from before say which items they summed in another form.
      if (receipt.facts.itemLines !== ITEM_LINES) continue;
      if ((await tallyOf(db, receipt.stepId!)).itemsSha256 !== receipt.itemsSha256)
        findings.push({ in: 'ledger', detail: `the items of receipt ${receipt.id} were changed after it was written` });
    }
    if (page.length < PAGE) return findings;
  }
}

const LEFT_WORDS: Record<PrivateUse, string> = {
  out: 'a file',
  copy: 'a copy',
  cut: 'a range of a copy',
  text: 'a text',
  archive: 'a package',
  restore: 'a restore',
};

/** What lies in Keramion's own folders and belongs to no work that runs. */
async function checkPrivate(context: JobContext): Promise<Finding[]> {
  const findings: Finding[] = [];
  for (const volume of await volumesInUse(context.db)) {
    const root = await context.root(volume.id);
    if (!root) continue;
    const { leftovers, foreign } = await leftoversOn(context.db, root);
    for (const left of leftovers)
      findings.push({
        in: 'private folders',
        detail: `${volume.name}: ${LEFT_WORDS[left.use]} that ended work left aside${left.path ? `; it was ${left.path}` : ''}`,
      });
    for (const name of foreign)
      findings.push({ in: 'private folders', detail: `${volume.name}: ${name} is nothing of this site` });
  }
  return findings;
}

/** Every snapshot that is said to be kept lies where it was put and reads as it was taken; of many, the youngest where not all are read. */
async function checkSnapshots(context: JobContext, whole: boolean): Promise<Finding[]> {
  const findings: Finding[] = [];
  for (const volume of await volumesInUse(context.db)) {
    const root = await context.root(volume.id);
    if (!root) continue;
    const rows = context.db
      .select()
      .from(snapshots)
      .where(and(eq(snapshots.onVolumeId, volume.id), eq(snapshots.state, 'kept')))
      .orderBy(desc(snapshots.id));
    for (const [i, row] of (whole ? await rows : await rows.limit(SAMPLE)).entries()) {
      if (i % 50 === 0) await context.checkIn();
      const why = await wrongSnapshot(context, root, row);
      if (why !== null)
        findings.push({ in: 'snapshots', detail: `${volume.name}: the snapshot of ${row.name} in ${row.path} ${why}` });
    }
  }
  return findings;
}

async function wrongSnapshot(
  context: JobContext,
  root: Root,
  { path, sizeBytes, xxh64 }: typeof snapshots.$inferSelect,
): Promise<string | null> {
  try {
    const { stop } = context;
    const read = await sumFile(context.pools.content, root.placeText(path), { sha512: false, stop });
    return read.sizeBytes === sizeBytes && read.xxh64 === xxh64 ? null : 'is not what was taken';
  } catch (error) {
    context.check();
    if (error instanceof OutsideError || isMissing(error)) return 'is not there any more';
    return `cannot be read (${codeOf(error)})`;
  }
}

const volumesInUse = (db: Db) => db.select().from(volumes).where(isNull(volumes.retiredAt)).orderBy(volumes.id);

/** The catalogue against the disks: that each file looked at is there, and is the one that was read. */
async function checkDisks(context: JobContext, whole: boolean): Promise<{ looked: number; findings: Finding[] }> {
  const findings: Finding[] = [];
  let looked = 0;
  for (const volume of await volumesInUse(context.db)) {
    const root = await context.root(volume.id);
    if (!root) continue;
    for await (const rows of whole ? allFiles(context.db, volume.id) : someFiles(context.db, volume.id))
      for (const row of rows) {
        looked++;
        const detail = wrongWith(root, row, volume.device);
        if (detail !== null && findings.length < MOST_TOLD)
          findings.push({ in: 'disks', detail: `${volume.name}: ${detail}` });
        if (looked % 200 === 0) await context.checkIn();
      }
  }
  return { looked, findings };
}

const COLUMNS = `f.id, f.name, f.raw_name AS rawName, d.path AS folder, d.raw_path AS rawFolder, f.size_bytes AS sizeBytes, f.modified_us AS modifiedUs, f.inode, f.changed_us AS changedUs`;

async function* allFiles(db: Database, volumeId: number): AsyncGenerator<RowDataPacket[]> {
  for (let last = 0; ;) {
    const [rows] = await db.$pool.query<RowDataPacket[]>(
      `SELECT ${COLUMNS} FROM folders d JOIN files f ON f.folder_id = d.id WHERE d.volume_id = ? AND f.gone_at IS NULL AND f.id > ? ORDER BY f.id LIMIT ${PAGE}`,
      [volumeId, last],
    );
    if (rows.length > 0) yield rows;
    if (rows.length < PAGE) return;
    last = Number(rows.at(-1)!.id);
  }
}

/** Files of folders chosen by chance. */
async function* someFiles(db: Database, volumeId: number): AsyncGenerator<RowDataPacket[]> {
  const [rows] = await db.$pool.query<RowDataPacket[]>(
    `SELECT ${COLUMNS} FROM (SELECT * FROM folders WHERE volume_id = ? AND gone_at IS NULL ORDER BY RAND() LIMIT 40) d
     JOIN files f ON f.folder_id = d.id WHERE f.gone_at IS NULL LIMIT ${SAMPLE}`,
    [volumeId],
  );
  yield rows;
}

function wrongWith(root: Root, row: RowDataPacket, device: number | null): string | null {
  const { path, raw } = placeOfFile(row as RowDataPacket & CataloguedNames);
  try {
    const facts = look(root.place({ path, raw }));
    if (facts.is === 'gone') return `${path} is not there any more`;
    if (facts.is !== 'file') return `${path} is no plain file any more`;
    const known = {
      sizeBytes: Number(row.sizeBytes),
      modifiedUs: Number(row.modifiedUs),
      device,
      inode: row.inode === null ? null : Number(row.inode),
      changedUs: row.changedUs === null ? null : Number(row.changedUs),
    };
    return isUnchanged(facts, known) ? null : `${path} is not what was read`;
  } catch (error) {
    if (error instanceof OutsideError) return `${path} leads through a link by now`;
    if (isMissing(error)) return `${path} is not there any more`;
    throw error;
  }
}

async function run(context: JobContext, { repair, whole }: z.infer<typeof params>): Promise<void> {
  try {
    context.phase('checking sums', 'files', 0);
    const sums = await checkSums(context.db, { repair });
    await context.checkIn();
    context.rename('checking the ledger');
    const ledger = await checkLedger(context.db);
    context.rename('checking private folders');
    const own = await checkPrivate(context);
    context.rename('checking snapshots');
    const taken = await checkSnapshots(context, whole);
    context.rename('checking disks');
    const { looked, findings } = await checkDisks(context, whole);
    const result: CheckResult = {
      atMs: context.now().getTime(),
      repaired: repair && sums.length > 0,
      looked,
      findings: [
        ...sums.map(({ sum, detail }) => ({ in: 'sums' as const, detail: `${sum}: ${detail}` })),
        ...ledger,
        ...own,
        ...taken,
        ...findings,
      ].slice(0, MOST_TOLD),
    };
    await context.transaction(async (tx) => {
      const value = JSON.stringify(result);
      await tx.insert(site).values({ key: KEY, value }).onDuplicateKeyUpdate({ set: { value } });
      if (result.repaired)
        await writeReceipt(tx, {
          at: context.now(),
          who: context.job.who,
          action: 'sums repaired',
          title: `${sums.length} sums worked out anew and put right`,
          jobId: context.job.id,
          files: 0,
          bytes: 0,
          held: 0,
          facts: { sums: sums.slice(0, 100) },
          itemsSha256: itemsHash(sums.map(({ sum, detail }) => `${sum}\t${detail}`)),
        });
      await endJob(tx, context.job, { state: 'done' });
    });
  } catch (thrown) {
    await endAfter(context, thrown);
  }
}

export const checkWork = workKind<z.infer<typeof params>>({
  kind: 'check',
  params: params as z.ZodType<z.infer<typeof params>>,
  run,
});

/** What the last check found; null where none was made. What a repair put right is told as found. */
export async function lastCheck(db: Db): Promise<CheckResult | null> {
  const [row] = await db.select().from(site).where(eq(site.key, KEY));
  return row ? (JSON.parse(row.value) as CheckResult) : null;
}

/** Asks for a check. It changes what the catalogue says of every volume only where it repairs. */
export async function askToCheck(
  db: Database,
  { who, now, repair = false, whole = false }: { who: string; now: Date; repair?: boolean; whole?: boolean },
) {
  const mode = 'change' as const;
  return inTransaction(db, async (tx) => {
    const there = (await volumesInUse(tx)).filter((volume) => volume.state === 'reachable');
    return enqueue(
      tx,
      {
        kind: checkWork.kind,
        title: repair ? 'Check everything, and put sums right' : 'Check everything',
        params: { repair, whole },
        who,
        stores: there.flatMap(({ id }) => [
          { store: 'volume' as const, id, mode: 'look' as const },
          { store: 'catalogue' as const, id, mode },
        ]),
      },
      now,
    );
  });
}

/** Asks for the weekly check where it is due and none waits. */
export async function askForDueCheck(db: Database, now: Date): Promise<void> {
  const last = await lastCheck(db);
  if (last && now.getTime() - last.atMs < EVERY_DAYS * 86_400_000) return;
  const [oldest] = await db
    .select({ id: volumes.id })
    .from(volumes)
    .where(sql`${volumes.readAt} IS NOT NULL AND ${volumes.readAt} < ${now} - INTERVAL ${last ? 0 : EVERY_DAYS} DAY`)
    .limit(1);
  const [waiting] = await db
    .select({ id: jobs.id })
    .from(jobs)
    .where(and(eq(jobs.kind, checkWork.kind), isNull(jobs.finishedAt)))
    .limit(1);
  if (oldest && !waiting && (await begunMs(db, 'check', now)) !== null)
    await askToCheck(db, { who: 'the schedule', now });
}
