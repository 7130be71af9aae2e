// Keramion's own backup: the catalogue, the ledger and the settings, whole at one moment, each night to a place of the house's
// choice, thinned; and proven each week by reading it into a database of its own and checking that. Without its database
// Keramion loses a day of notes at most, never an archive.
import { randomBytes } from 'node:crypto';
import { and, eq, isNull, sql } from 'drizzle-orm';
import { z } from 'zod';
import { thinned } from '#core/reclaim/thin.ts';
import { counted, size } from '#core/wording/amounts.ts';
import { type BackupFile, BackupFolder, readBackup } from '#disk/backups.ts';
import { codeOf } from '#disk/facts.ts';
import { checkLedger } from '../check/check.ts';
import { checkSums } from '../check/sums.ts';
import { connect, type Database, type Db, disconnect, inTransaction, type Transaction } from '../db/connect.ts';
import { jobs } from '../db/schema/jobs.ts';
import { site } from '../db/schema/site.ts';
import { siteMark } from '../db/site-mark.ts';
import type { JobContext } from '../runtime/context.ts';
import { endingOf } from '../runtime/endings.ts';
import { endJob, enqueue } from '../runtime/queue.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';
import { Refused } from '../runtime/refused.ts';
import { workKind } from '../runtime/work-kind.ts';
import { dump, load, type Server, serverOf } from './dump.ts';

export const backupRule = z.object({
  /** Empty: no backup is made by itself. */
  folder: z.string().max(4000).default(''),
  /** The newest so many stay; then one a day, a week, a month for so many. */
  newest: z.number().int().min(1).max(1000).default(3),
  days: z.number().int().min(0).max(1000).default(14),
  weeks: z.number().int().min(0).max(1000).default(8),
  months: z.number().int().min(0).max(1000).default(12),
});
export type BackupRule = z.infer<typeof backupRule>;

const lastBackup = z.object({
  atMs: z.number(),
  file: z.string(),
  bytes: z.number(),
  kept: z.number(),
  /** When the newest that was read into a database of its own was, and what did not fit there. */
  provenMs: z.number().nullable(),
  wrong: z.array(z.string()),
  /** Why the last try made none; null where it made one. */
  trouble: z.string().nullable(),
});
export type LastBackup = z.infer<typeof lastBackup>;

const RULE = 'own backup';
const LAST = 'last own backup';
const PROVEN_EVERY_MS = 7 * 86_400_000 - 3_600_000;
const passphraseOf = () => process.env.KERAMION_BACKUP_PASSPHRASE || null;

async function kept<T>(db: Db, key: string, of: z.ZodType<T>): Promise<T | null> {
  const [row] = await db.select().from(site).where(eq(site.key, key));
  const parsed = row ? of.safeParse(JSON.parse(row.value)) : null;
  return parsed?.success ? parsed.data : null;
}

async function keep(tx: Transaction, key: string, what: object): Promise<void> {
  const value = JSON.stringify(what);
  await tx.insert(site).values({ key, value }).onDuplicateKeyUpdate({ set: { value } });
}

export const ownBackupRule = async (db: Db): Promise<BackupRule> =>
  (await kept(db, RULE, backupRule as z.ZodType<BackupRule>)) ?? backupRule.parse({});

export const lastOwnBackup = (db: Db): Promise<LastBackup | null> => kept(db, LAST, lastBackup);

export async function setOwnBackupRule(db: Database, rule: BackupRule, { who, now }: { who: string; now: Date }) {
  if (rule.folder !== '' && !rule.folder.startsWith('/'))
    throw new Refused('Say the whole path of the folder, beginning with /. Nothing was saved.');
  await inTransaction(db, async (tx) => {
    const before = await ownBackupRule(tx);
    await keep(tx, RULE, rule);
    await writeReceipt(tx, {
      ...{ at: now, who, action: 'own backup changed', files: 0, bytes: 0, held: 0 },
      title:
        rule.folder === ''
          ? 'The catalogue is not backed up by itself'
          : `The catalogue is backed up to ${rule.folder}`,
      ...{ facts: { before, after: rule }, itemsSha256: itemsHash([]) },
    });
  });
}

const params = z.object({ folder: z.string(), prove: z.boolean().default(false) });

/** Which site's it is stands in its name: two that share a folder leave each other's alone. */
const namesOf = (mark: string) =>
  new RegExp(`^keramion_${mark.slice(0, 8)}_[\\dT-]{19}(-\\d{3})?Z\\.sql\\.gz(\\.enc)?$`);
const nameFor = (mark: string, now: Date, locked: boolean) =>
  `keramion_${mark.slice(0, 8)}_${now.toISOString().slice(0, 23).replaceAll(/[:.]/g, '-')}Z.sql.gz${locked ? '.enc' : ''}`;

/** What a catalogue says and is not so. */
async function differences(db: Database): Promise<string[]> {
  const sums = await checkSums(db);
  return [...sums.map(({ sum, detail }) => `${sum}: ${detail}`), ...(await checkLedger(db)).map((one) => one.detail)];
}

/** The databases that backups of a site are read into begin with this. */
export const proofNames = (mark: string): string => `keramion_proof_${mark.slice(0, 8).replaceAll(/\W/g, '')}_`;

/**
 * Reads a backup into a database of its own, and checks what is there. Gives what does not fit. One at a time makes a backup, so what an
 * earlier one left, of which the worker was killed, goes first.
 */
export async function prove(from: Server, { place, mark }: { place: string; mark: string }): Promise<string[]> {
  const database = `${proofNames(mark)}${randomBytes(6).toString('hex')}`;
  const url = (name: string) =>
    `mysql://${encodeURIComponent(from.user)}:${encodeURIComponent(from.password)}@${from.host}:${from.port}/${name}`;
  const admin = connect(url(from.database), 1);
  try {
    await dropProofs(admin, mark);
    await admin.$pool.query(`CREATE DATABASE ${database}`);
    await load({ ...from, database }, readBackup(place), passphraseOf());
    const db = connect(url(database), 4);
    try {
      return await differences(db);
    } finally {
      await disconnect(db);
    }
  } finally {
    await admin.$pool.query(`DROP DATABASE IF EXISTS ${database}`).catch(() => undefined);
    await disconnect(admin);
  }
}

async function dropProofs(admin: Database, mark: string): Promise<void> {
  const [rows] = (await admin.$pool.query(
    'SELECT schema_name AS name FROM information_schema.schemata',
  )) as unknown as [{ name: string }[]];
  for (const { name } of rows)
    if (name.startsWith(proofNames(mark))) await admin.$pool.query(`DROP DATABASE IF EXISTS \`${name}\``);
}

async function make(context: JobContext, asked: z.infer<typeof params>): Promise<void> {
  const { db, job } = context;
  const before = await lastOwnBackup(db);
  try {
    const mark = await siteMark(db);
    const folder = openFolder(asked.folder);
    context.phase('backing up the catalogue', 'bytes', 0);
    const passphrase = passphraseOf();
    const now = context.now();
    const { content, whole } = await dump(serverOf(db), { passphrase, progress: (bytes) => context.add(bytes) });
    const name = nameFor(mark, now, passphrase !== null);
    const { bytes, sha256 } = await written(folder, { name, content, whole, context });
    const isProofDue = asked.prove || !before?.provenMs || now.getTime() - before.provenMs >= PROVEN_EVERY_MS;
    if (isProofDue) context.rename('proving the backup');
    const wrong = isProofDue ? await prove(serverOf(db), { place: folder.place(name), mark }) : before.wrong;
    await context.assertLease();
    folder.tidy(namesOf(mark), now.getTime());
    const left = thin(folder, namesOf(mark), await ownBackupRule(db));
    await context.transaction(async (tx) => {
      const provenMs = isProofDue ? now.getTime() : before.provenMs;
      const last: LastBackup = {
        atMs: now.getTime(),
        file: folder.place(name),
        bytes,
        kept: left,
        provenMs,
        wrong,
        trouble: null,
      };
      await keep(tx, LAST, last);
      await writeReceipt(tx, {
        ...{ at: now, who: job.who, action: 'catalogue backed up', files: 1, bytes, held: 0, jobId: job.id },
        title: `The catalogue, ${size(bytes)}, to ${asked.folder}${isProofDue ? (wrong.length === 0 ? '; read into a database of its own and checked' : `; ${counted(wrong.length, 'thing')} did not fit when it was checked`) : ''}`,
        ...{ facts: { file: name, sha256, kept: left, wrong: wrong.slice(0, 20) }, itemsSha256: itemsHash([]) },
      });
      await endJob(tx, job, { state: 'done' });
    });
  } catch (thrown) {
    const ending = endingOf(context, thrown);
    const none: LastBackup = { atMs: 0, file: '', bytes: 0, kept: 0, provenMs: null, wrong: [], trouble: null };
    await context.transaction(async (tx) => {
      if (ending.state === 'failed')
        await keep(tx, LAST, { ...none, ...before, trouble: ending.trouble ?? 'It failed.' });
      await endJob(tx, job, ending);
    });
  }
}

function openFolder(at: string): BackupFolder {
  try {
    return BackupFolder.open(at);
  } catch (error) {
    throw new Refused(
      `${at} cannot be opened (${codeOf(error)}), so the catalogue was not backed up. Earlier backups are as they were. Check the folder, or choose another in Settings.`,
    );
  }
}

interface Writing {
  name: string;
  content: Awaited<ReturnType<typeof dump>>['content'];
  whole: Promise<void>;
  context: JobContext;
}

async function written(folder: BackupFolder, { name, content, whole, context }: Writing) {
  try {
    return await folder.write(name, content, async () => {
      await whole;
      await context.assertLease();
    });
  } catch (error) {
    context.check();
    if (codeOf(error) !== 'ENOSPC') throw error;
    throw new Refused(
      'The place for backups is full, so the catalogue was not backed up. Earlier backups are as they were. Free some space there, or keep fewer.',
    );
  }
}

/** Takes away what the house does not want to keep any longer; gives how many are left. */
function thin(folder: BackupFolder, fits: RegExp, rule: BackupRule): number {
  const all = folder.list(fits).map((file: BackupFile, id) => ({ ...file, id, modifiedUs: file.modifiedMs * 1000 }));
  const gone = thinned(all, { ...rule, hours: 0 });
  for (const { id, name } of all) if (gone.has(id)) folder.remove(name);
  return all.length - gone.size;
}

export const ownBackupWork = workKind<z.infer<typeof params>>({
  kind: 'own backup',
  params: params as z.ZodType<z.infer<typeof params>>,
  run: make,
});

/** Asks for a backup now. Throws Refused where no folder is known. */
export async function askToBackUp(
  db: Database,
  { who, now, folder, prove: isProven = false }: { who: string; now: Date; folder?: string; prove?: boolean },
) {
  const to = folder ?? (await ownBackupRule(db)).folder;
  if (to === '')
    throw new Refused('There is no folder for backups of the catalogue. Nothing was begun. Name one in Settings.');
  if (await isAsked(db))
    throw new Refused(
      'A backup of the catalogue is being made or waits already. Nothing was begun; wait for that one.',
    );
  return inTransaction(db, (tx) =>
    enqueue(
      tx,
      {
        kind: ownBackupWork.kind,
        title: 'Back up the catalogue',
        params: { folder: to, prove: isProven },
        who,
        stores: [],
      },
      now,
    ),
  );
}

async function isAsked(db: Db): Promise<boolean> {
  const [waiting] = await db
    .select({ id: jobs.id })
    .from(jobs)
    .where(and(eq(jobs.kind, ownBackupWork.kind), isNull(jobs.finishedAt)))
    .limit(1);
  return waiting !== undefined;
}

/** Asks for the nightly one where the house has a place for it and none waits. Gives whether it did. */
export async function askForNightlyBackup(db: Database, who: string, now: Date): Promise<boolean> {
  if ((await ownBackupRule(db)).folder === '' || (await isAsked(db))) return false;
  await askToBackUp(db, { who, now });
  return true;
}

/** Reads a backup into the database that is connected, which must hold nothing. */
export async function restoreCatalogue(db: Database, file: string): Promise<{ wrong: string[] }> {
  const [tables] = (await db.$pool.query('SHOW TABLES')) as unknown as [unknown[]];
  if (tables.length > 0)
    throw new Refused(
      'This database holds something already, and nothing is ever written over. Nothing was changed. Name an empty database in KERAMION_DATABASE.',
    );
  try {
    await load(serverOf(db), readBackup(file), passphraseOf());
  } catch (error) {
    // It was empty before, and is again.
    await emptied(db);
    if (error instanceof Refused || !codeOf(error).startsWith('E')) throw error;
    throw new Refused(`${file} cannot be read (${codeOf(error)}). Nothing was changed.`);
  }
  // What was asked for then may not be what anybody wants now; what was in its hands is put back by the next worker.
  await db
    .update(jobs)
    .set({
      ...{ state: 'failed', lease: null, leaseUntil: null, finishedAt: sql`UTC_TIMESTAMP(3)` },
      trouble:
        'The catalogue was brought back from a backup while this was to be done. It was not gone on with; ask for it again.',
    })
    .where(isNull(jobs.finishedAt));
  return { wrong: await differences(db) };
}

async function emptied(db: Database): Promise<void> {
  const [tables] = (await db.$pool.query('SHOW FULL TABLES')) as unknown as [Record<string, string>[]];
  for (const row of tables) {
    const [name, type] = Object.values(row);
    await db.$pool.query(`DROP ${type === 'SEQUENCE' ? 'SEQUENCE' : 'TABLE'} IF EXISTS \`${name}\``);
  }
}

/**
 * What is wrong with the house's own backups, in words; null where nothing is.
 * @param lateMs one from before then is late
 */
export function backupTrouble(
  rule: BackupRule,
  last: LastBackup | null,
  lateMs: number,
): { what: string; detail: string } | null {
  if (rule.folder === '') return null;
  if (last && last.wrong.length > 0)
    return { what: 'The last backup of the catalogue does not check out', detail: last.wrong[0]! };
  if (last?.trouble) return { what: 'The catalogue could not be backed up', detail: last.trouble };
  if (!last || last.atMs < lateMs)
    return {
      what: 'The catalogue was not backed up twice in a row',
      detail: `It goes to ${rule.folder} when a worker runs in its hours`,
    };
  return null;
}
