// Making small pictures of media, by the worker that reaches the volume. Kept in the database, within a bound: the two
// processes meet nowhere else.
import { inArray, sql } from 'drizzle-orm';
import type { RowDataPacket } from 'mysql2/promise';
import { z } from 'zod';
import { joinPath } from '#core/paths.ts';
import { makePoster, mediaAt } from '#disk/posters.ts';
import { posters } from '../db/schema/catalogue.ts';
import type { JobContext } from '../runtime/context.ts';
import { inParallel } from '../runtime/in-parallel.ts';
import { endAfter, endPlainly, workKind } from '../runtime/work-kind.ts';
import { POSTERS, STRIP, type Wish } from './posters.ts';

const MOST_BYTES = 256_000_000;
const HEIGHT = 90;
const AT_ONCE = 2;

const params = z.object({
  wishes: z
    .array(
      z.object({
        fileId: z.number().int(),
        moment: z
          .number()
          .int()
          .min(0)
          .max(STRIP - 1),
      }),
    )
    .max(64),
});

async function run(context: JobContext, { wishes }: z.infer<typeof params>): Promise<void> {
  try {
    await inParallel(AT_ONCE, wishes, (wish) => makeOne(context, wish));
    await keepWithin(context);
    await endPlainly(context);
  } catch (thrown) {
    await endAfter(context, thrown);
  }
}

async function makeOne(context: JobContext, { fileId, moment }: Wish): Promise<void> {
  context.check();
  const [[row]] = await context.db.$pool.query<RowDataPacket[]>(
    `SELECT f.name, f.size_bytes AS bytes, f.modified_us AS modifiedUs, d.path AS folder, f.volume_id AS volumeId, e.duration_frames AS frames, e.rate_num AS num, e.rate_den AS den
     FROM files f JOIN folders d ON d.id = f.folder_id LEFT JOIN essence e ON e.file_id = f.id
     WHERE f.id = ? AND f.gone_at IS NULL AND f.raw_name IS NULL AND d.raw_path IS NULL`,
    [fileId],
  );
  const root = row ? context.pathOf(Number(row.volumeId)) : null;
  if (!row || root === null) return;
  const media = mediaAt(root, joinPath(row.folder as string, row.name as string), Number(row.bytes));
  const seconds = row.frames && row.num ? (Number(row.frames) * Number(row.den)) / Number(row.num) : 0;
  const picture =
    media === null ? null : await makePoster({ media, seconds: (seconds * moment) / STRIP, height: HEIGHT });
  const made = { modifiedUs: Number(row.modifiedUs), picture, bytes: picture?.length ?? 0, seenAt: context.now() };
  await context.transaction((tx) =>
    tx
      .insert(posters)
      .values({ fileId, moment, ...made })
      .onDuplicateKeyUpdate({ set: made }),
  );
}

/** Those not seen for longest go, until three quarters of the bound are left; those of archived files after all others. */
async function keepWithin(context: JobContext): Promise<void> {
  const [sum] = await context.db
    .select({ bytes: sql`COALESCE(SUM(${posters.bytes}), 0)`.mapWith(Number) })
    .from(posters);
  let over = sum!.bytes - MOST_BYTES;
  if (over <= 0) return;
  over += MOST_BYTES / 4;
  const oldest = await context.db
    .select({ fileId: posters.fileId, bytes: posters.bytes })
    .from(posters)
    .orderBy(sql`EXISTS (SELECT 1 FROM archive_files a WHERE a.file_id = ${posters.fileId})`, posters.seenAt)
    .limit(20_000);
  const gone: number[] = [];
  for (const row of oldest) {
    if (over <= 0) break;
    gone.push(row.fileId);
    over -= row.bytes;
  }
  if (gone.length > 0) await context.transaction((tx) => tx.delete(posters).where(inArray(posters.fileId, gone)));
}

export const postersWork = workKind({ kind: POSTERS, params, run });
