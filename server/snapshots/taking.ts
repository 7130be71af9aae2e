// Snapshots of the documents of projects in work: each as it is at one moment, whole, on another volume than its own, and
// proven there. Workers look every minute which documents changed; only then there is work. What is not kept any longer goes
// by the house's rule, in the same work.
import { and, asc, eq, inArray, isNull, ne, sql } from 'drizzle-orm';
import { z } from 'zod';
import { thinned } from '#core/reclaim/thin.ts';
import { joinPath } from '#core/paths.ts';
import { contentsOf } from '#core/snapshots/contents.ts';
import { placesOf, snapshotPath, type Summary, summaryOf } from '#core/snapshots/snapshots.ts';
import { readDocument } from '#disk/documents/documents.ts';
import { codeOf } from '#disk/facts.ts';
import { placeOfFile } from '#disk/paths.ts';
import type { Root } from '#disk/root.ts';
import { glance, keepMoment, type Moment, readMoment, removeSnapshot, snapshotAt } from '#disk/snapshots.ts';
import { type Database, type Db, inTransaction } from '../db/connect.ts';
import { files, folders } from '../db/schema/catalogue.ts';
import { documents } from '../db/schema/documents.ts';
import { jobs } from '../db/schema/jobs.ts';
import { projects } from '../db/schema/projects.ts';
import { snapshotContents, snapshots } from '../db/schema/snapshots.ts';
import { volumes } from '../db/schema/stores.ts';
import { siteMark } from '../db/site-mark.ts';
import type { JobContext } from '../runtime/context.ts';
import { endingOf } from '../runtime/endings.ts';
import { endJob, type Ending, enqueue } from '../runtime/queue.ts';
import { Refused } from '../runtime/refused.ts';
import { workKind } from '../runtime/work-kind.ts';
import { noteTrouble, projectSnapshotRules, rulesFor, snapshotRuleOf, snapshotTrouble } from './rule.ts';

const params = z.object({ volumeId: z.number().int(), onVolumeId: z.number().int() });
type Params = z.infer<typeof params>;

const AGAIN_AFTER_MS = 15 * 60_000;

/** States of projects whose documents are worked on. */
const IN_WORK = ['in work', 'finishing'] as const;

/** The documents that count of projects in work, of one volume. */
export async function documentsToKeep(db: Db, volumeId: number) {
  return db
    .select({
      fileId: files.id,
      projectId: documents.projectId,
      project: projects.name,
      name: files.name,
      rawName: files.rawName,
      folder: folders.path,
      rawFolder: folders.rawPath,
    })
    .from(documents)
    .innerJoin(files, eq(files.id, documents.fileId))
    .innerJoin(folders, eq(folders.id, files.folderId))
    .innerJoin(projects, eq(projects.id, documents.projectId))
    .where(
      and(
        eq(files.volumeId, volumeId),
        isNull(files.goneAt),
        isNull(documents.supersededBy),
        inArray(projects.state, [...IN_WORK]),
      ),
    )
    .orderBy(asc(files.id));
}
type Document = Awaited<ReturnType<typeof documentsToKeep>>[number];
type Kept = typeof snapshots.$inferSelect;
type Last = Pick<Kept, 'id' | 'fileId' | 'takenAt' | 'xxh64' | 'modifiedUs' | 'sizeBytes'>;

/** The last one of each of these documents on a volume. */
async function lastOf(db: Db, onVolumeId: number, fileIds: readonly number[]): Promise<Map<number, Last>> {
  const last = new Map<number, Last>();
  if (fileIds.length === 0) return last;
  const newest = db
    .select({ id: sql`MAX(${snapshots.id})`.as('newest_id') })
    .from(snapshots)
    .where(
      and(inArray(snapshots.fileId, [...fileIds]), eq(snapshots.onVolumeId, onVolumeId), eq(snapshots.state, 'kept')),
    )
    .groupBy(snapshots.fileId)
    .as('newest');
  const rows = await db
    .select({
      ...{ id: snapshots.id, fileId: snapshots.fileId, takenAt: snapshots.takenAt, xxh64: snapshots.xxh64 },
      ...{ modifiedUs: snapshots.modifiedUs, sizeBytes: snapshots.sizeBytes },
    })
    .from(snapshots)
    .innerJoin(newest, eq(newest.id, snapshots.id));
  for (const row of rows) last.set(row.fileId, row);
  return last;
}

interface Taking {
  context: JobContext;
  from: Root;
  to: Root;
  onVolumeId: number;
  ruleOf: By['ruleOf'];
}

/** What counts for each project, at a moment. */
interface By {
  ruleOf: ReturnType<typeof rulesFor>;
  now: Date;
}

async function take(context: JobContext, { volumeId, onVolumeId }: Params): Promise<void> {
  const { db, job } = context;
  let ending: Ending = { state: 'done' };
  try {
    const [from, to] = [await context.root(volumeId), await context.root(onVolumeId)];
    if (!from || !to)
      throw new Refused(
        'A volume cannot be reached, so no snapshot was taken. Those that are there are as they were. They go on when it is connected.',
      );
    const ruleOf = rulesFor(await snapshotRuleOf(db), await projectSnapshotRules(db));
    const taking = { context, from, to, onVolumeId, ruleOf };
    await finishEarlier(taking);
    const { all, last } = await dueOf(db, { volumeId, onVolumeId }, { ruleOf, now: context.now() });
    context.phase('snapshots', 'files', all.length);
    for (const document of all) {
      context.check();
      if (await takeOne(taking, document, last.get(document.fileId))) await thin(taking, document);
      context.add(1);
    }
  } catch (thrown) {
    ending = endingOf(context, thrown);
  }
  await context.transaction(async (tx) => {
    if (ending.state !== 'cancelled')
      await noteTrouble(tx, onVolumeId, { trouble: ending.trouble ?? null, now: context.now() });
    await endJob(tx, job, ending);
  });
}

/** What a worker that was killed had begun: a copy that was not kept yet, or one on its way out, goes. */
async function finishEarlier(taking: Taking): Promise<void> {
  const rows = await taking.context.db
    .select()
    .from(snapshots)
    .where(and(eq(snapshots.onVolumeId, taking.onVolumeId), ne(snapshots.state, 'kept')));
  for (const row of rows) await drop(taking, row);
}

async function drop({ context, to }: Taking, { id, path }: Pick<Kept, 'id' | 'path'>): Promise<void> {
  await context.assertLease();
  // Its temporary file is ours since the volume was opened, whoever began it.
  removeSnapshot(to, (await context.names()).path('copy', id));
  removeSnapshot(to, path);
  await context.transaction(async (tx) => {
    await tx.delete(snapshotContents).where(eq(snapshotContents.snapshotId, id));
    await tx.delete(snapshots).where(eq(snapshots.id, id));
  });
}

/** Whether another one is kept now. What is being written, or is no whole document, waits for the next time. */
async function takeOne(taking: Taking, document: Document, last: Last | undefined): Promise<boolean> {
  const { context, from } = taking;
  const now = context.now();
  const moment = read(from, document, now.getTime());
  if (!moment) return false;
  const { modifiedUs, sizeBytes } = moment.facts;
  if (last?.xxh64 === moment.xxh64 && last.sizeBytes === sizeBytes) {
    // Only its time is another.
    if (last.modifiedUs !== modifiedUs)
      await context.transaction((tx) => tx.update(snapshots).set({ modifiedUs }).where(eq(snapshots.id, last.id)));
    return false;
  }
  return keep(taking, { document, moment, takenAt: now });
}

function read(from: Root, document: Document, nowMs: number): Moment | null {
  try {
    return readMoment(from, placeOfFile(document), nowMs);
  } catch {
    // Gone, or not ours to read: the next reading says so.
    return null;
  }
}

interface Keeping {
  document: Document;
  moment: Moment;
  takenAt: Date;
}

async function keep(taking: Taking, { document, moment, takenAt }: Keeping): Promise<boolean> {
  const { context, to, onVolumeId } = taking;
  const { fileId, projectId, project, name } = document;
  const site = await siteMark(context.db);
  const summary: Summary = { timelines: [], clips: 0, media: 0 };
  const { modifiedUs, sizeBytes } = moment.facts;
  const row = await context.transaction(async (tx) => {
    const values = { projectId, fileId, name, onVolumeId, path: '', state: 'being kept' as const, takenAt };
    const [{ insertId: id }] = await tx
      .insert(snapshots)
      .values({ ...values, modifiedUs, sizeBytes, xxh64: moment.xxh64, summary });
    const path = snapshotAt(
      site,
      snapshotPath({ projectId, project, fileId, name, takenUs: takenAt.getTime() * 1000, id }),
    );
    await tx.update(snapshots).set({ path }).where(eq(snapshots.id, id));
    return { id, path };
  });
  await context.assertLease();
  const temporary = (await context.names()).path('copy', row.id);
  try {
    if (!(await keepMoment(to, { at: row.path, temporary, check: () => context.assertLease() }, moment)))
      throw Object.assign(new Error('It does not read back as it was written.'), { code: 'EIO' });
  } catch (error) {
    await drop(taking, row);
    throw refusal(error, name);
  }
  const { reading } = await readDocument(context.pools.documents, { path: to.placeText(row.path), name }, moment.facts);
  if (!reading.ok) {
    // Not whole, or broken: what was kept before stays the last one.
    await drop(taking, row);
    broken.set(fileId, markOf(moment.facts));
    return false;
  }
  const contents = contentsOf(reading.document);
  await context.transaction(async (tx) => {
    await tx
      .update(snapshots)
      .set({ state: 'kept', summary: summaryOf(reading.document) })
      .where(eq(snapshots.id, row.id));
    if (contents) await tx.insert(snapshotContents).values({ snapshotId: row.id, contents });
  });
  return true;
}

function refusal(error: unknown, name: string): unknown {
  const code = codeOf(error);
  if (code === 'ENOSPC' || code === 'EDQUOT')
    return new Refused(
      `The volume for snapshots is full, so none was taken of ${name}. Those that are there are as they were. Free some space there, or keep fewer.`,
    );
  if (code === 'EACCES' || code === 'EROFS' || code === 'EPERM')
    return new Refused(
      `The volume for snapshots cannot be written to (${code}), so none was taken of ${name}. Those that are there are as they were.`,
    );
  return error;
}

/** What the house, or the project, does not want to keep any longer goes; the newest never does. */
async function thin(taking: Taking, { fileId, projectId }: Document): Promise<void> {
  const { context, onVolumeId, ruleOf } = taking;
  const rule = ruleOf(projectId);
  const rows = await context.db
    .select()
    .from(snapshots)
    .where(and(eq(snapshots.fileId, fileId), eq(snapshots.onVolumeId, onVolumeId), eq(snapshots.state, 'kept')));
  const gone = thinned(
    rows.map(({ id, takenAt }) => ({ id, modifiedUs: takenAt.getTime() * 1000 })),
    rule,
  );
  for (const row of rows) {
    if (!gone.has(row.id)) continue;
    await context.transaction((tx) => tx.update(snapshots).set({ state: 'going' }).where(eq(snapshots.id, row.id)));
    await drop(taking, row);
  }
}

export const snapshotWork = workKind<Params>({ kind: 'snapshot documents', params, run: take });

/** Documents that were no whole ones when they were read: not asked for again until they change, or the worker begins anew. */
const broken = new Map<number, string>();
const markOf = ({ sizeBytes, modifiedUs }: { sizeBytes: number; modifiedUs: number }) => `${sizeBytes} ${modifiedUs}`;

/**
 * Looks at the documents on volumes that a worker reaches, and asks for snapshots where one changed and its last is old enough.
 * Gives the volumes that it asked for
 */
export async function askForSnapshots(
  db: Database,
  reached: ReadonlyMap<number, string>,
  { now }: { now: Date },
): Promise<number[]> {
  const house = await snapshotRuleOf(db);
  const ruleOf = rulesFor(house, await projectSnapshotRules(db));
  const due: Params[] = [];
  for (const onVolumeId of placesOf(house)) {
    if (!reached.has(onVolumeId)) continue;
    // What failed is tried again, but not every minute.
    const trouble = await snapshotTrouble(db, onVolumeId);
    if (trouble && now.getTime() - trouble.atMs < AGAIN_AFTER_MS) continue;
    for (const [volumeId, path] of reached) {
      if (volumeId === onVolumeId) continue;
      const { all, last } = await dueOf(db, { volumeId, onVolumeId }, { ruleOf, now });
      if (await anyChanged(path, all, last)) due.push({ volumeId, onVolumeId });
    }
  }
  const begun: number[] = [];
  for (const asking of due) if (await ask(db, asking, now)) begun.push(asking.volumeId);
  return begun;
}

/** The documents of which another may be kept now: their project wants any, and their last is old enough for it. */
async function dueOf(
  db: Db,
  { volumeId, onVolumeId }: Params,
  { ruleOf, now }: By,
): Promise<{ all: Document[]; last: Map<number, Last> }> {
  const every = await documentsToKeep(db, volumeId);
  const last = await lastOf(
    db,
    onVolumeId,
    every.map((one) => one.fileId),
  );
  const all = every.filter(({ fileId, projectId }) => {
    const { isOff, everyMinutes } = ruleOf(projectId);
    const before = last.get(fileId);
    return !isOff && (!before || now.getTime() - before.takenAt.getTime() >= everyMinutes * 60_000);
  });
  return { all, last };
}

async function anyChanged(path: string, all: readonly Document[], last: ReadonlyMap<number, Last>): Promise<boolean> {
  for (const document of all) {
    const facts = await glance(path, joinPath(document.folder, document.name));
    if (!facts) continue;
    const before = last.get(document.fileId);
    if (before && before.sizeBytes === facts.sizeBytes && before.modifiedUs === facts.modifiedUs) continue;
    if (broken.get(document.fileId) !== markOf(facts)) return true;
  }
  return false;
}

/** Whether it was put in: not where one waits already. */
async function ask(db: Database, asking: Params, now: Date): Promise<boolean> {
  const waiting = await db
    .select({ params: jobs.params })
    .from(jobs)
    .where(and(eq(jobs.kind, snapshotWork.kind), isNull(jobs.finishedAt)));
  if (waiting.some(({ params: own }) => own.volumeId === asking.volumeId && own.onVolumeId === asking.onVolumeId))
    return false;
  const [volume] = await db.select().from(volumes).where(eq(volumes.id, asking.volumeId));
  await inTransaction(db, (tx) =>
    enqueue(
      tx,
      {
        kind: snapshotWork.kind,
        title: `Snapshots of documents on ${volume?.name ?? 'a volume'}`,
        params: asking,
        who: 'Keramion',
        quiet: true,
        stores: [
          { store: 'volume', id: asking.volumeId, mode: 'look' },
          { store: 'volume', id: asking.onVolumeId, mode: 'change' },
        ],
      },
      now,
    ),
  );
  return true;
}
