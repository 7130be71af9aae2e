// Making viewing copies, by the worker that reaches the originals. Each is kept whole or not at all.
import { eq, sql } from 'drizzle-orm';
import type { RowDataPacket } from 'mysql2/promise';
import { z } from 'zod';
import { joinPath } from '#core/paths.ts';
import { mediaAt } from '#disk/posters.ts';
import { withScratch } from '#disk/scratch.ts';
import { makeViewingCopy, partsOf } from '#disk/viewing-copy.ts';
import { viewingCopies, viewingParts } from '../db/schema/catalogue.ts';
import type { JobContext } from '../runtime/context.ts';
import { endAfter, endPlainly, workKind } from '../runtime/work-kind.ts';
import { MOST_BYTES, PART_BYTES, VIEWING } from './viewing.ts';

const params = z.object({ fileIds: z.array(z.number().int()).max(50) });

interface Original {
  id: number;
  volumeId: number;
  path: string;
  bytes: number;
  modifiedUs: number;
}

async function run(context: JobContext, { fileIds }: z.infer<typeof params>): Promise<void> {
  try {
    const originals = await originalsOf(context, fileIds);
    const total = originals.reduce((sum, one) => sum + one.bytes, 0);
    context.phase('making viewing copies', 'bytes', total);
    let before = 0;
    for (const original of originals) {
      await context.checkIn();
      await makeOne(context, original, (part) => context.set(before + part * original.bytes));
      before += original.bytes;
      context.set(before);
    }
    await endPlainly(context);
  } catch (thrown) {
    await endAfter(context, thrown);
  }
}

async function originalsOf(context: JobContext, fileIds: readonly number[]): Promise<Original[]> {
  if (fileIds.length === 0) return [];
  const [rows] = await context.db.$pool.query<RowDataPacket[]>(
    `SELECT f.id, f.volume_id AS volumeId, f.name, d.path AS folder, f.size_bytes AS bytes, f.modified_us AS modifiedUs
     FROM files f JOIN folders d ON d.id = f.folder_id
     WHERE f.id IN (?) AND f.gone_at IS NULL AND f.raw_name IS NULL AND d.raw_path IS NULL ORDER BY f.id`,
    [fileIds],
  );
  return rows.map((row) => ({
    ...{ id: Number(row.id), volumeId: Number(row.volumeId), path: joinPath(row.folder as string, row.name as string) },
    ...{ bytes: Number(row.bytes), modifiedUs: Number(row.modifiedUs) },
  }));
}

async function makeOne(context: JobContext, original: Original, onPart: (part: number) => void): Promise<void> {
  const root = context.pathOf(original.volumeId);
  const media = root === null ? null : mediaAt(root, original.path, original.bytes);
  if (media === null) return;
  const [sum] = await context.db
    .select({ bytes: sql`COALESCE(SUM(${viewingCopies.bytes}), 0)`.mapWith(Number) })
    .from(viewingCopies);
  if (sum!.bytes >= MOST_BYTES)
    return note(context, original, `viewing copies take ${MOST_BYTES / 1e9} GB already, which is all they may`);
  await withScratch(async (to) => {
    const why = await makeViewingCopy({ media, to, onPart, isToEnd: () => context.isToEnd });
    context.check();
    // What was written into meanwhile is another film.
    if (why === null && mediaAt(root!, original.path, original.bytes) === null) return;
    if (why === null) await keep(context, original, to);
    else await note(context, original, why);
  });
}

const note = (context: JobContext, { id, modifiedUs }: Original, trouble: string): Promise<void> =>
  context.transaction(async (tx) => {
    const made = { modifiedUs, bytes: 0, trouble: trouble.slice(0, 300), madeAt: context.now() };
    await tx.delete(viewingParts).where(eq(viewingParts.fileId, id));
    await tx
      .insert(viewingCopies)
      .values({ fileId: id, ...made })
      .onDuplicateKeyUpdate({ set: made });
  });

/** A part at a time; what the row says of it comes last, so that none counts before it is whole. */
async function keep(context: JobContext, { id, modifiedUs }: Original, from: string): Promise<void> {
  await context.transaction(async (tx) => {
    await tx.delete(viewingCopies).where(eq(viewingCopies.fileId, id));
    await tx.delete(viewingParts).where(eq(viewingParts.fileId, id));
  });
  let bytes = 0;
  let part = 0;
  for await (const content of partsOf(from, PART_BYTES)) {
    await context.transaction((tx) => tx.insert(viewingParts).values({ fileId: id, part, content }));
    bytes += content.length;
    part++;
  }
  const made = { modifiedUs, bytes, trouble: null, madeAt: context.now() };
  await context.transaction((tx) => tx.insert(viewingCopies).values({ fileId: id, ...made }));
}

export const viewingWork = workKind({ kind: VIEWING, params, run });
