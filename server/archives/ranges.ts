// Which frames of an archive's files its timelines use: kept when it is sealed, so that a timeline's ranges alone can be brought back
// when its documents are long gone.
import { and, eq, sql } from 'drizzle-orm';
import { z } from 'zod';
import {
  type Handles,
  keptStill,
  type Part,
  partBytes,
  partName,
  placedIn,
  withHandles,
} from '#core/archive/lengths.ts';
import { grouped } from '#core/grouped.ts';
import type { ProjectId } from '#core/model.ts';
import { folderOf, joinPath, nameOf } from '#core/paths.ts';
import { idList } from '../db/conditions.ts';
import type { Db, Transaction } from '../db/connect.ts';
import { inSlices } from '../db/holdings.ts';
import { archiveFiles, archiveTimelines, archiveUses, type UsedFrames, type UsedStill } from '../db/schema/archives.ts';
import { type Lengths, lengthsOf } from './lengths.ts';

/** Once, with the sealing, after its uses are known. What is cut or encoded stays as it is there. */
export async function noteRanges(tx: Transaction, archiveId: number, projectId: ProjectId): Promise<void> {
  const timelines = await tx
    .select({ id: archiveTimelines.id, name: archiveTimelines.name, documentFileId: archiveTimelines.documentFileId })
    .from(archiveTimelines)
    .where(eq(archiveTimelines.archiveId, archiveId));
  for (const { id, name, documentFileId } of timelines) {
    const used = await tx
      .select({ id: archiveFiles.id, fileId: archiveFiles.fileId })
      .from(archiveUses)
      .innerJoin(archiveFiles, eq(archiveFiles.id, archiveUses.archiveFileId))
      .where(and(eq(archiveUses.timelineId, id), eq(archiveFiles.role, 'media')));
    const fileIds = used.map((row) => row.fileId);
    const lengths = await lengthsOf(tx, projectId, { fileIds, versions: 'all', timelines: [name] });
    const rows = used.flatMap((row) => {
      const frames = framesUsed(lengths.get(row.fileId), documentFileId);
      return frames ? [{ timelineId: id, archiveFileId: row.id, frames }] : [];
    });
    for (const some of inSlices(rows, 1000))
      await tx
        .insert(archiveUses)
        .values(some)
        .onDuplicateKeyUpdate({ set: { frames: sql`VALUES(frames)` } });
  }
}

/** Null where it is used whole, or it is open which frames are meant. */
function framesUsed(lengths: Lengths | undefined, documentFileId: number): UsedFrames | UsedStill | null {
  if (!lengths) return null;
  if (lengths.stills.length > 0) return stillsUsed(lengths, documentFileId);
  const { file } = lengths;
  const ranges: [number, number][] = [];
  for (const use of lengths.uses) {
    if (use.documentFileId !== documentFileId || use.spans?.length === 0) continue;
    const placed = use.relinks && use.spans !== null ? placedIn(file, use) : 'not relinked';
    if (typeof placed === 'string') return null;
    ranges.push(...placed.map(({ from, to }): [number, number] => [from, to]));
  }
  return ranges.length > 0 ? { file, ranges } : null;
}

/** Null where a document names it as a file of its own too. */
function stillsUsed({ stills, uses }: Lengths, documentFileId: number): UsedStill | null {
  if (stills.length !== uses.length) return null;
  const own = uses.flatMap((use, i) => {
    if (use.documentFileId !== documentFileId || use.spans?.length === 0) return [];
    const { spans, rate, start, duration, relinks, ord, stills: all } = stills[i]!;
    return [{ spans, rate, start, duration, relinks, ord, stills: { step: all.step, count: all.count } }];
  });
  return own.length > 0 ? { stills: own } : null;
}

interface Asked {
  timelines: readonly string[];
  bins: readonly string[];
  files: readonly number[];
}

/** Of a file that is brought back, ranges instead of the whole. */
export interface InRanges {
  id: number;
  payloadPath: string;
  file: UsedFrames['file'];
  /** Of the whole that is read for it. */
  wholeBytes: number;
  /** With about what each weighs. */
  parts: (Part & { bytes: number })[];
}

const whole = z.number().int().min(0);
const rate = z.object({ num: z.number().int().min(1), den: z.number().int().min(1) });
/** A catalogue may come from an import. */
const usedFrames: z.ZodType<UsedFrames> = z.object({
  file: z.object({
    format: z.string(),
    frames: whole.nullable(),
    start: z.number().int().nullable(),
    rate: rate.nullable(),
    isSound: z.boolean(),
  }),
  ranges: z.array(z.tuple([whole, whole])).min(1),
});

const usedStill: z.ZodType<UsedStill> = z.object({
  stills: z
    .array(
      z.object({
        spans: z.array(z.object({ start: z.number().int(), duration: whole })).nullable(),
        rate: rate.nullable(),
        start: z.number().int().nullable(),
        duration: whole.nullable(),
        relinks: z.boolean(),
        ord: whole,
        stills: z.object({ step: z.number().int().min(1), count: whole.nullable() }),
      }),
    )
    .min(1),
});

/** Where a range of it lies, beside where the whole would. */
export const rangePath = (payloadPath: string, from: number): string =>
  joinPath(folderOf(payloadPath), partName(nameOf(payloadPath), from));

/**
 * The files of which less than the whole is brought back where these timelines are asked for, by their numbers. What bins and single
 * files ask for comes whole, and so does what cannot be cut.
 */
export async function rangesMeant(
  db: Db,
  archiveId: number,
  { only, handles, meant }: { only: Asked; handles: Handles; meant: readonly number[] },
): Promise<Map<number, InRanges>> {
  const found = new Map<number, InRanges>();
  const rows = await usesOf(db, archiveId, { only, meant });
  if (rows.length === 0) return found;
  const named = new Set(only.files);
  const paths = await pathsIn(db, meant);
  for (const [id, uses] of grouped(rows, (row) => row.id)) {
    const used = uses.map((use) => usedFrames.safeParse(use.frames).data ?? null);
    const [first] = used;
    if (named.has(id) || !first || used.some((one) => one === null)) continue;
    const { payloadPath, wholeBytes } = uses[0]!;
    const ranges = used.flatMap((one) => one!.ranges.map(([from, to]) => ({ from, to })));
    // With the handles of the slowest of them, which are the longest.
    const slowest = uses.map((use) => use.rate).reduce((a, b) => (a.num * b.den <= b.num * a.den ? a : b));
    const parts = withHandles(first.file, ranges, { handles, rate: slowest });
    // Where another has that name already, the whole comes.
    if (!parts || parts.some(({ from }) => paths.has(rangePath(payloadPath, from)))) continue;
    const weighed = parts.map((part) => ({ ...part, bytes: partBytes(wholeBytes, first.file.frames!, part) }));
    found.set(id, { id, payloadPath, file: first.file, wholeBytes, parts: weighed });
  }
  return found;
}

/** What these timelines use of these files, one row for each two; none where more is asked for than timelines and single files. */
async function usesOf(db: Db, archiveId: number, { only, meant }: { only: Asked; meant: readonly number[] }) {
  if (only.timelines.length === 0 || only.bins.length > 0) return [];
  return db
    .select({
      ...{ id: archiveFiles.id, payloadPath: archiveFiles.payloadPath, frames: archiveUses.frames },
      wholeBytes: sql`COALESCE(${archiveFiles.payloadBytes}, ${archiveFiles.sizeBytes})`.mapWith(Number),
      rate: { num: archiveTimelines.rateNum, den: archiveTimelines.rateDen },
    })
    .from(archiveUses)
    .innerJoin(archiveTimelines, eq(archiveTimelines.id, archiveUses.timelineId))
    .innerJoin(archiveFiles, eq(archiveFiles.id, archiveUses.archiveFileId))
    .where(
      and(
        ...[eq(archiveTimelines.archiveId, archiveId), sql`${archiveTimelines.name} IN ${[...only.timelines]}`],
        ...[eq(archiveFiles.role, 'media'), sql`${archiveFiles.id} IN ${idList([...meant, 0])}`],
      ),
    );
}

/**
 * Where each still lies, by its number, that these timelines neither show nor have in their handles: the sequence comes without it.
 * What was named by itself comes, and so does all of a sequence of which it stays open what is shown.
 */
export async function stillsNotShown(
  db: Db,
  archiveId: number,
  { only, handles, meant }: { only: Asked; handles: Handles; meant: readonly number[] },
): Promise<Map<number, string>> {
  const named = new Set(only.files);
  const out = new Map<number, string>();
  for (const [id, uses] of grouped(await usesOf(db, archiveId, { only, meant }), (row) => row.id)) {
    const stills = uses.map((use) => usedStill.safeParse(use.frames).data?.stills ?? null);
    if (named.has(id) || stills.some((one) => one === null)) continue;
    if (
      keptStill(
        stills.flatMap((one) => one!),
        handles,
      ).is === 'nothing'
    )
      out.set(id, uses[0]!.payloadPath);
  }
  return out;
}

async function pathsIn(db: Db, ids: readonly number[]): Promise<Set<string>> {
  const rows = await db
    .select({ path: archiveFiles.payloadPath })
    .from(archiveFiles)
    .where(sql`${archiveFiles.id} IN ${idList([...ids, 0])}`);
  return new Set(rows.map((row) => row.path));
}
