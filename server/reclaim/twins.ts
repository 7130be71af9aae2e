// The same file twice: by size, then by both ends, then by the whole. What was compared is kept with the facts the files had,
// so that only what is new or changed is read again. Hard links are one file, whatever it is called.
import { sql } from 'drizzle-orm';
import { z } from 'zod';
import { sumFile } from '#disk/content/content.ts';
import { END, endsSum } from '#disk/content/ends.ts';
import { codeOf, isMissing } from '#disk/facts.ts';
import { type CataloguedNames, OutsideError, placeOfFile } from '#disk/paths.ts';
import { type Database, type Db, inTransaction } from '../db/connect.ts';
import { fileSums } from '../db/schema/worth.ts';
import type { JobContext } from '../runtime/context.ts';
import { inParallel } from '../runtime/in-parallel.ts';
import { enqueue } from '../runtime/queue.ts';
import { endAfter, endPlainly, workKind } from '../runtime/work-kind.ts';

/** Smaller ones are not worth a row: they hold a thousandth of any disk. */
export const LEAST_BYTES = 4096;
const PAGE = 10_000;

interface Row extends CataloguedNames {
  id: number;
  volumeId: number;
  device: number | null;
  sizeBytes: number;
  modifiedUs: number;
  inode: number | null;
  changedUs: number | null;
  /** What was summed of it as it is now; null where nothing was. */
  ends: string | null;
  xxh64: string | null;
}

async function run(context: JobContext): Promise<void> {
  try {
    const { bytes } = await candidates(context.db);
    context.phase('comparing', 'bytes', bytes);
    for await (const group of sameSizes(context)) {
      await compare(context, group);
      await context.checkIn();
    }
    await endPlainly(context);
  } catch (thrown) {
    await endAfter(context, thrown);
  }
}

const SAME_SIZE = sql`f.gone_at IS NULL AND f.kind <> 'cache' AND f.size_bytes >= ${LEAST_BYTES}`;
const SIZES = sql`SELECT f.size_bytes FROM files f JOIN volumes v ON v.id = f.volume_id AND v.state = 'reachable' AND v.retired_at IS NULL WHERE ${SAME_SIZE} GROUP BY f.size_bytes HAVING COUNT(*) > 1`;

async function candidates(db: Database): Promise<{ bytes: number }> {
  const [rows] = (await db.execute(
    sql`SELECT COALESCE(SUM(f.size_bytes), 0) AS bytes FROM files f JOIN (${SIZES}) z ON z.size_bytes = f.size_bytes WHERE ${SAME_SIZE}`,
  )) as unknown as [{ bytes: number }[]];
  return { bytes: Number(rows[0]!.bytes) };
}

/** Files of one size, the largest sizes first; a size that one file alone has is left out. */
async function* sameSizes({ db }: JobContext): AsyncGenerator<Row[]> {
  let last: { size: number; id: number } | null = null;
  let group: Row[] = [];
  for (;;) {
    const after: ReturnType<typeof sql> = last
      ? sql`AND (f.size_bytes < ${last.size} OR (f.size_bytes = ${last.size} AND f.id > ${last.id}))`
      : sql``;
    const [rows] = (await db.execute(sql`
      SELECT f.id, f.volume_id AS volumeId, v.device, f.size_bytes AS sizeBytes, f.modified_us AS modifiedUs, f.inode, f.changed_us AS changedUs,
        f.name, f.raw_name AS rawName, d.path AS folder, d.raw_path AS rawFolder, s.ends, s.xxh64
      FROM files f JOIN (${SIZES}) z ON z.size_bytes = f.size_bytes JOIN folders d ON d.id = f.folder_id
      JOIN volumes v ON v.id = f.volume_id AND v.state = 'reachable' AND v.retired_at IS NULL
      LEFT JOIN file_sums s ON s.file_id = f.id AND s.size_bytes = f.size_bytes AND s.modified_us = f.modified_us
        AND s.inode <=> f.inode AND s.changed_us <=> f.changed_us
      WHERE ${SAME_SIZE} ${after} ORDER BY f.size_bytes DESC, f.id LIMIT ${PAGE}`)) as unknown as [Row[]];
    for (const row of rows) {
      if (group.length > 0 && group[0]!.sizeBytes !== row.sizeBytes) {
        yield group;
        group = [];
      }
      group.push(row);
    }
    if (rows.length < PAGE) break;
    last = { size: rows.at(-1)!.sizeBytes, id: rows.at(-1)!.id };
  }
  if (group.length > 0) yield group;
}

async function compare(context: JobContext, group: readonly Row[]): Promise<void> {
  const files = withoutLinks(group);
  const wanted = files.length > 1 ? files : [];
  const changed = new Set<Row>();
  if (wanted.some((row) => row.ends === null))
    for (const row of wanted)
      if (row.ends === null) {
        row.ends = await endsOf(context, row);
        if (row.ends !== null) changed.add(row);
      }
  const byEnds = new Map<string, Row[]>();
  for (const row of wanted) if (row.ends !== null) byEnds.set(row.ends, [...(byEnds.get(row.ends) ?? []), row]);
  for (const same of byEnds.values()) {
    if (same.length < 2) continue;
    await inParallel(
      context.pools.content.size,
      same.filter((row) => row.xxh64 === null),
      async (row) => {
        context.check();
        row.xxh64 = row.sizeBytes <= 2 * END ? row.ends : await wholeOf(context, row);
        if (row.xxh64 !== null) changed.add(row);
      },
    );
  }
  for (const row of group) context.add(row.sizeBytes);
  if (changed.size > 0) await keep(context, [...changed]);
}

/** Of one file under several names the first. Their numbers are only known apart on one file system. */
function withoutLinks(group: readonly Row[]): Row[] {
  const seen = new Set<string>();
  return group.filter((row) => {
    if (row.inode === null || row.device === null) return true;
    const key = `${row.device} ${row.inode}`;
    if (seen.has(key)) return false;
    seen.add(key);
    return true;
  });
}

const expectationOf = ({ sizeBytes, modifiedUs, device, inode, changedUs }: Row) => ({
  sizeBytes,
  modifiedUs,
  device,
  inode,
  changedUs,
});

/** Null where the file cannot be read now: it is compared another time. */
async function endsOf(context: JobContext, row: Row): Promise<string | null> {
  const root = await context.root(row.volumeId);
  if (!root) return null;
  return unlessRefused(() => Promise.resolve(endsSum(root.place(placeOfFile(row)), row.sizeBytes)));
}

async function wholeOf(context: JobContext, row: Row): Promise<string | null> {
  const root = await context.root(row.volumeId);
  if (!root) return null;
  return unlessRefused(async () => {
    const sum = await sumFile(context.pools.content, root.place(placeOfFile(row)), {
      expected: expectationOf(row),
      sha512: false,
      stop: context.stop,
    });
    return sum.xxh64;
  });
}

const REFUSED = new Set(['changed', 'not a file', 'EACCES', 'EPERM', 'ELOOP', 'EIO', 'ENXIO']);

async function unlessRefused(work: () => Promise<string>): Promise<string | null> {
  try {
    return await work();
  } catch (error) {
    if (isMissing(error) || error instanceof OutsideError || REFUSED.has(codeOf(error))) return null;
    throw error;
  }
}

async function keep(context: JobContext, rows: readonly Row[]): Promise<void> {
  for (let i = 0; i < rows.length; i += 1000)
    await context.transaction((tx) =>
      tx
        .insert(fileSums)
        .values(
          rows.slice(i, i + 1000).map(({ id, sizeBytes, modifiedUs, inode, changedUs, ends, xxh64 }) => ({
            fileId: id,
            sizeBytes,
            modifiedUs,
            inode,
            changedUs,
            ends: ends!,
            xxh64,
          })),
        )
        .onDuplicateKeyUpdate({
          set: {
            sizeBytes: sql`VALUES(size_bytes)`,
            modifiedUs: sql`VALUES(modified_us)`,
            inode: sql`VALUES(inode)`,
            changedUs: sql`VALUES(changed_us)`,
            ends: sql`VALUES(ends)`,
            xxh64: sql`VALUES(xxh64)`,
          },
        }),
    );
}

const params = z.object({});
export const compareWork = workKind<z.infer<typeof params>>({ kind: 'compare files', params, run });

/** Asks for all files that may be the same to be compared, on every volume that can be reached. */
export function askToCompare(db: Database, { who, now }: { who: string; now: Date }) {
  return inTransaction(db, async (tx) => {
    const [rows] = (await tx.execute(
      sql`SELECT id FROM volumes WHERE state = 'reachable' AND retired_at IS NULL ORDER BY id`,
    )) as unknown as [{ id: number }[]];
    return enqueue(
      tx,
      {
        kind: compareWork.kind,
        title: 'Compare files that may be the same',
        params: {},
        who,
        stores: rows.map(({ id }) => ({ store: 'volume' as const, id: Number(id), mode: 'look' as const })),
      },
      now,
    );
  });
}

export interface TwinPair {
  goes: { fileId: number; volume: string; path: string };
  stays: { fileId: number; volume: string; path: string };
  bytes: number;
}

/** Pairs of the last assessment: which one may go, and which one stays; the largest first. */
export async function twinPairs(db: Db, run_: number, most = 1000): Promise<TwinPair[]> {
  const [rows] = (await db.execute(sql`
    SELECT f.id, v.name AS volume, IF(d.path = '', f.name, CONCAT(d.path, '/', f.name)) AS path, f.size_bytes AS bytes,
      g.id AS otherId, y.name AS otherVolume, IF(e.path = '', g.name, CONCAT(e.path, '/', g.name)) AS otherPath
    FROM worth w JOIN files f ON f.id = w.file_id JOIN folders d ON d.id = f.folder_id JOIN volumes v ON v.id = f.volume_id
    JOIN files g ON g.id = w.other JOIN folders e ON e.id = g.folder_id JOIN volumes y ON y.id = g.volume_id
    WHERE w.run = ${run_} AND w.what = 'same twice' ORDER BY f.size_bytes DESC, f.id LIMIT ${most}`)) as unknown as [
    {
      id: number;
      volume: string;
      path: string;
      bytes: number;
      otherId: number;
      otherVolume: string;
      otherPath: string;
    }[],
  ];
  return rows.map((row) => ({
    goes: { fileId: Number(row.id), volume: row.volume, path: row.path },
    stays: { fileId: Number(row.otherId), volume: row.otherVolume, path: row.otherPath },
    bytes: Number(row.bytes),
  }));
}
