// Ranges of media that go into an archive instead of the whole, and media that is encoded anew. Each range is made up as soon as the step is in the plan, so that its
// size is known to the byte before anybody runs it; what cannot be cut stays whole, and why is kept with it. What was not
// weighed by then is weighed before anything is written.
import { and, eq, inArray, notInArray, sql } from 'drizzle-orm';
import { z } from 'zod';
import { fold, freePlace } from '#core/archive/names.ts';
import type { ArchiveScope, PlacedFile } from '#core/archive/selection.ts';
import type { Frames, Wanted } from '#core/essence/cut/cut.ts';
import { grouped } from '#core/grouped.ts';
import type { Expectation } from '#core/model.ts';
import { folderOf, nameOf } from '#core/paths.ts';
import { archiveScope } from '#core/steps/archive.ts';
import { codeOf } from '#disk/facts.ts';
import type { ArchiveFile } from '../archives/bag.ts';
import type { Held } from '../archives/base.ts';
import { measurePart, ofSource } from '../carriers/copying.ts';
import type { Staged } from '../archives/selection.ts';
import type { Db, Transaction } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { archiveFiles } from '../db/schema/archives.ts';
import { stepItems, stepParts, steps } from '../db/schema/plans.ts';
import type { JobContext } from '../runtime/context.ts';
import { inParallel } from '../runtime/in-parallel.ts';
import { triedEncoding } from './encoded.ts';
import { enqueue } from '../runtime/queue.ts';
import { endAfter, endPlainly, workKind } from '../runtime/work-kind.ts';

/** What is asked for of a file; null for the whole. */
export const partIn = ({ role, partFrom, partTo }: ArchiveFile, { handles }: ArchiveScope): Wanted | null =>
  role === 'part' ? { from: partFrom!, to: partTo!, withoutData: handles?.withoutData } : null;

/** Says in a sentence why a file cannot go in; returns where the work goes on without it. */
type Fail = (error: unknown, file: ArchiveFile) => Promise<void>;

/** False where all was weighed already. */
export async function weighParts(
  context: JobContext,
  { archiveId, scope }: { archiveId: number; scope: ArchiveScope },
  fail: Fail,
): Promise<boolean> {
  const rows = await context.db
    .select()
    .from(archiveFiles)
    .where(and(eq(archiveFiles.archiveId, archiveId), eq(archiveFiles.role, 'part'), eq(archiveFiles.measured, false)))
    .orderBy(archiveFiles.id);
  const files = [...grouped(rows, (row) => row.fileId).values()];
  if (files.length === 0) return false;
  context.phase('reading where frames lie', 'files', files.length);
  for (const { volumeId } of rows) await context.root(volumeId);
  await inParallel(context.pools.carriers.size, files, async (parts) => {
    context.check();
    await weigh(context, { parts, scope }, fail);
    context.add(1);
  });
  return true;
}

async function weigh(
  context: JobContext,
  { parts, scope }: { parts: readonly ArchiveFile[]; scope: ArchiveScope },
  fail: Fail,
): Promise<void> {
  const [first] = parts;
  const asked = parts.map((file) => ({ id: file.id, part: partIn(file, scope)! }));
  let weighed: Weighed[] | string;
  try {
    weighed = await weightOf(context, { ...first!, sizeBytes: first!.ofBytes! }, asked);
  } catch (error) {
    return fail(error, first!);
  }
  if (typeof weighed === 'string') return staysWhole(context, parts, weighed);
  const all = weighed;
  await context.transaction(async (tx) => {
    for (const { id, sizeBytes, part } of all)
      await tx
        .update(archiveFiles)
        .set({ sizeBytes, partFrom: part.from, partTo: part.to, measured: true })
        .where(eq(archiveFiles.id, id));
  });
}

interface Weighed {
  id: number;
  sizeBytes: number;
  part: Frames;
}
type Source = Expectation & Pick<ArchiveFile, 'volumeId' | 'path' | 'rawPath'>;

/** What each range of a file will weigh; or why it cannot be cut, in words. Throws what the disk says. */
async function weightOf(
  context: JobContext,
  source: Source,
  asked: readonly { id: number; part: Wanted }[],
): Promise<Weighed[] | string> {
  const root = await context.root(source.volumeId);
  if (!root) throw Object.assign(new Error('Its volume cannot be reached.'), { code: 'unreachable' });
  const weighed: Weighed[] = [];
  try {
    for (const { id, part } of asked) {
      const result = await measurePart(
        context.pools.carriers,
        { from: ofSource(() => root.place(source)), expected: source, part },
        { stop: context.stop },
      );
      weighed.push({ id, sizeBytes: result.sizeBytes, part: result.part! });
    }
  } catch (error) {
    if (codeOf(error) !== 'cannot_cut') throw error;
    return (error as Error).message;
  }
  return weighed;
}

/** Instead of its parts, or encoded anew, the file goes in as it is, under its own name, or one beside it where that is taken. */
export async function staysWhole(context: JobContext, parts: readonly ArchiveFile[], why: string): Promise<void> {
  const [first] = parts;
  const ids = parts.map((part) => part.id);
  await context.transaction(async (tx) => {
    const rows = await tx
      .select({ at: archiveFiles.payloadPath })
      .from(archiveFiles)
      .where(and(eq(archiveFiles.archiveId, first!.archiveId), notInArray(archiveFiles.id, ids)));
    const taken = new Set(rows.map((row) => fold(row.at)));
    const { id: _, ofBytes, encoding: __, ...row } = first!;
    await tx.delete(archiveFiles).where(inArray(archiveFiles.id, ids));
    await tx.insert(archiveFiles).values({
      ...row,
      role: 'media',
      payloadPath: freePlace(folderOf(first!.payloadPath), nameOf(first!.path), taken),
      sizeBytes: ofBytes!,
      partFrom: null,
      partTo: null,
      whyWhole: why.slice(0, 250),
    });
  });
}

/**
 * Keeps which ranges a step takes, and has them weighed by whoever reaches their volumes. What an earlier archive holds is known
 * to the byte.
 */
export async function stageParts(
  tx: Transaction,
  stepId: number,
  { chosen, held, now }: { chosen: readonly PlacedFile[]; held: Held; now: Date },
): Promise<void> {
  const inParts = chosen.filter((file) => file.parts.length > 0 || file.encoding);
  const rows = inParts.flatMap(({ fileId, parts, encoding, keptBytes }) => {
    const there = held.get(fileId);
    if (encoding) {
      const known = there?.[0] ? { sizeBytes: there[0].sizeBytes, measured: true } : { sizeBytes: keptBytes };
      return [{ stepId, fileId, partFrom: 0, partTo: 0, encoding, ...known }];
    }
    return there
      ? there.map(({ partFrom, partTo, sizeBytes }) => ({
          ...{ stepId, fileId, partFrom: partFrom!, partTo: partTo!, sizeBytes, measured: true },
        }))
      : parts.map(({ from, to, bytes }) => ({ stepId, fileId, partFrom: from, partTo: to, sizeBytes: bytes }));
  });
  for (const some of inSlices(rows)) await tx.insert(stepParts).values(some);
  const volumeIds = new Set(inParts.filter((file) => !held.has(file.fileId)).map((file) => file.volumeId));
  if (volumeIds.size === 0) return;
  await enqueue(
    tx,
    {
      ...{ kind: weighWork.kind, title: 'Weigh what an archive will hold', who: 'Keramion', quiet: true },
      params: { stepId },
      stores: [...volumeIds].map((id) => ({ store: 'volume' as const, id, mode: 'look' as const })),
    },
    now,
  );
}

/** What a step takes of each file, as it was chosen and weighed. */
export async function stagedParts(db: Db, stepId: number): Promise<Staged> {
  const rows = await db.select().from(stepParts).where(eq(stepParts.stepId, stepId)).orderBy(stepParts.id);
  return grouped(rows, (row) => row.fileId);
}

const params = z.object({ stepId: z.number() });

/** Weighs the parts of a step that is still only planned. Of what is away or has changed the step itself speaks. */
async function weighStaged(context: JobContext, { stepId }: z.infer<typeof params>): Promise<void> {
  const { db } = context;
  const rows = await db
    .select({ part: stepParts, item: stepItems })
    .from(stepParts)
    .innerJoin(stepItems, and(eq(stepItems.stepId, stepId), eq(stepItems.fileId, stepParts.fileId)))
    .where(and(eq(stepParts.stepId, stepId), eq(stepParts.measured, false)))
    .orderBy(stepParts.id);
  const scope = await scopeOfStep(db, stepId);
  const files = [...grouped(rows, ({ part }) => part.fileId).values()];
  context.phase('reading where frames lie', 'files', files.length);
  for (const { item } of rows) await context.root(item.volumeId);
  await inParallel(context.pools.carriers.size, files, async (parts) => {
    context.check();
    const { item } = parts[0]!;
    const encoding = parts[0]!.part.encoding;
    if (encoding) {
      const tried = await quietly(context, () => triedEncoding(context, item, encoding));
      if (tried !== null)
        await noteStaged(context, {
          ...{ stepId, parts: parts.map(({ part }) => part), item },
          weighed: typeof tried === 'string' ? tried : [{ id: parts[0]!.part.id, sizeBytes: tried, part: NO_RANGE }],
        });
      return context.add(1);
    }
    const asked = parts.map(({ part }) => ({
      ...{ id: part.id, part: { from: part.partFrom, to: part.partTo, withoutData: scope?.handles?.withoutData } },
    }));
    const weighed = await quietly(context, () => weightOf(context, item, asked));
    if (weighed !== null) await noteStaged(context, { stepId, parts: parts.map(({ part }) => part), item, weighed });
    context.add(1);
  });
  await endPlainly(context);
}

const NO_RANGE: Frames = { from: 0, to: 0 };

/** Null where the file is away or has changed: of that the step itself speaks. */
async function quietly<T>(context: JobContext, work: () => Promise<T>): Promise<T | null> {
  try {
    return await work();
  } catch (error) {
    context.check();
    if (['changed', 'unreachable', 'gone', 'not permitted', 'not a file', 'unreadable'].includes(codeOf(error)))
      return null;
    throw error;
  }
}

/** Null where the step is gone by now. */
async function scopeOfStep(db: Db, stepId: number): Promise<ArchiveScope | null> {
  const [step] = await db.select({ what: steps.what }).from(steps).where(eq(steps.id, stepId));
  const { scope } = (step?.what.params ?? {}) as { scope?: unknown };
  return scope ? archiveScope.parse(scope) : null;
}

interface Noting {
  stepId: number;
  parts: readonly (typeof stepParts.$inferSelect)[];
  item: Source;
  weighed: Weighed[] | string;
}

async function noteStaged(context: JobContext, { stepId, parts, item, weighed }: Noting): Promise<void> {
  const before = parts.reduce((sum, part) => sum + part.sizeBytes, 0);
  await context.transaction(async (tx) => {
    // Once it runs, what was taken over into the archive's own rows counts.
    const [step] = await tx.select({ jobId: steps.jobId }).from(steps).where(eq(steps.id, stepId)).for('update');
    if (!step || step.jobId !== null) return;
    if (typeof weighed === 'string') {
      const why = { measured: true, whyWhole: weighed.slice(0, 250) };
      await tx
        .update(stepParts)
        .set(why)
        .where(
          inArray(
            stepParts.id,
            parts.map((part) => part.id),
          ),
        );
    } else
      for (const { id, sizeBytes, part } of weighed)
        await tx
          .update(stepParts)
          .set({ sizeBytes, partFrom: part.from, partTo: part.to, measured: true })
          .where(eq(stepParts.id, id));
    const after = typeof weighed === 'string' ? item.sizeBytes : weighed.reduce((sum, one) => sum + one.sizeBytes, 0);
    await tx
      .update(steps)
      .set({ bytes: sql`${steps.bytes} + ${after - before}` })
      .where(eq(steps.id, stepId));
  });
}

export const weighWork = workKind<z.infer<typeof params>>({
  kind: 'weigh parts',
  params,
  async run(context, asked) {
    try {
      await weighStaged(context, asked);
    } catch (thrown) {
      await endAfter(context, thrown);
    }
  },
});

/** How many parts of a step nobody has weighed yet. */
export async function unweighed(db: Db, stepId: number): Promise<number> {
  const [row] = await db
    .select({ n: sql`COUNT(DISTINCT ${stepParts.fileId})`.mapWith(Number) })
    .from(stepParts)
    .where(and(eq(stepParts.stepId, stepId), eq(stepParts.measured, false)));
  return row!.n;
}
