// The same file twice: by size, then by both ends, then by the whole. What was compared is kept with the facts the files had,
// so that only what is new or changed is read again. Hard links are one file, whatever it is called.
import { eq, sql } from 'drizzle-orm';
import { z } from 'zod';
import { MOST_AT_ONCE, sumMany } from '#disk/content/content.ts';
import { mayShareBlocks, sharedBytes } from '#disk/extents.ts';
import { type CataloguedNames, placeOfFile } from '#disk/paths.ts';
import { FOLDER_HOLDS_MS } from '#disk/root.ts';
import type { Connection } from 'mysql2/promise';
import { type Database, type Db, inTransaction, replaceRows, type Transaction } from '../db/connect.ts';
import { site } from '../db/schema/site.ts';
import { inSlices } from '../db/holdings.ts';
import type { JobContext } from '../runtime/context.ts';
import { inParallel } from '../runtime/in-parallel.ts';
import { enqueue } from '../runtime/queue.ts';
import { endAfter, endPlainly, workKind } from '../runtime/work-kind.ts';

/** Smaller ones are not worth a row: they hold a thousandth of any disk. */
export const LEAST_BYTES = 4096;
const PAGE = 20_000;
/** Rows that are compared and written down together. */
const AT_ONCE = 8000;
const SMALL_BYTES = 256 << 10;
const PORTION_BYTES = 256 << 20;

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
  /** Bytes in blocks that other files hold too; null where nobody tells. */
  sharedBytes: number | null;
}

async function run(context: JobContext): Promise<void> {
  context.phase('comparing', 'bytes', 0);
  try {
    // A connection of its own, in no transaction: it only looks, for as long as it takes.
    const connection = await context.db.$pool.getConnection();
    try {
      await compareAll(context, connection);
    } finally {
      connection.destroy();
    }
    await endPlainly(context);
  } catch (thrown) {
    await endAfter(context, thrown);
  }
}

async function compareAll(context: JobContext, connection: Connection): Promise<void> {
  const kept = new Keeping(context);
  const all: Comparing = {
    archived: await archivedSizes(connection),
    links: { files: 0, bytes: 0, clones: { files: 0, bytes: 0 } },
    kept,
  };
  try {
    for await (const groups of someOf(sameSizes(context, connection))) await compare(context, groups, all);
    await kept.end();
  } catch (error) {
    await kept.end().catch(() => undefined);
    throw error;
  }
  await context.transaction((tx) => setLinks(tx, all.links));
}

/** What was summed is written down while the next is read; what fails of it ends the work at the next. */
class Keeping {
  private writing = Promise.resolve();
  constructor(private readonly context: JobContext) {}

  async add(rows: readonly Row[]): Promise<void> {
    await this.writing;
    this.writing = keep(this.context, rows);
    this.writing.catch(() => undefined);
  }

  end = (): Promise<void> => this.writing;
}

/** Groups that are compared together. */
async function* someOf(all: AsyncIterable<Row[]>): AsyncGenerator<Row[][]> {
  let [groups, rows]: [Row[][], number] = [[], 0];
  for await (const group of all) {
    groups.push(group);
    rows += group.length;
    if (rows < AT_ONCE) continue;
    yield groups;
    [groups, rows] = [[], 0];
  }
  if (rows > 0) yield groups;
}

/** What one comparison knows and finds beside the sums. */
interface Comparing {
  /** Sizes of archived media that sums are kept of, each with the files that were archived themselves. */
  archived: ReadonlyMap<number, ReadonlySet<number>>;
  /** Further names of files that are there. */
  links: OtherNames;
  kept: Keeping;
}

async function archivedSizes(connection: Connection): Promise<Comparing['archived']> {
  const [rows] = (await connection.query(
    "SELECT size_bytes AS size, file_id AS id FROM archive_files WHERE role = 'media' AND xxh64 IS NOT NULL",
  )) as unknown as [{ size: number; id: number }[]];
  const sizes = new Map<number, Set<number>>();
  for (const { size, id } of rows) {
    const own = sizes.get(Number(size));
    if (own) own.add(Number(id));
    else sizes.set(Number(size), new Set([Number(id)]));
  }
  return sizes;
}

const SAME_SIZE = `f.gone_at IS NULL AND f.kind <> 'cache' AND f.size_bytes >= ${LEAST_BYTES}`;
const SIZES = `SELECT f.size_bytes FROM files f JOIN volumes v ON v.id = f.volume_id AND v.state = 'reachable' AND v.retired_at IS NULL WHERE ${SAME_SIZE} GROUP BY f.size_bytes HAVING COUNT(*) > 1
  UNION SELECT size_bytes FROM archive_files WHERE role = 'media' AND xxh64 IS NOT NULL`;

/** Files of one size, the largest sizes first; a size that one file alone has is left out. */
async function* sameSizes(context: JobContext, connection: Connection): AsyncGenerator<Row[]> {
  // Sorted once, in a table of this connection alone: pages of it are then found by their numbers.
  await connection.query(
    'CREATE TEMPORARY TABLE same_size (n INT NOT NULL AUTO_INCREMENT PRIMARY KEY, file_id BIGINT NOT NULL) ENGINE=InnoDB',
  );
  await connection.query(
    `INSERT INTO same_size (file_id) SELECT f.id FROM files f JOIN (${SIZES}) z ON z.size_bytes = f.size_bytes
     JOIN volumes v ON v.id = f.volume_id AND v.state = 'reachable' AND v.retired_at IS NULL WHERE ${SAME_SIZE} ORDER BY f.size_bytes DESC, f.id`,
  );
  const [[sum]] = (await connection.query(
    'SELECT COALESCE(SUM(f.size_bytes), 0) AS bytes FROM same_size x JOIN files f ON f.id = x.file_id',
  )) as unknown as [[{ bytes: number }]];
  context.phase('comparing', 'bytes', Number(sum.bytes));
  let group: Row[] = [];
  for (let from = 0; ; from += PAGE) {
    const [rows] = (await connection.query(
      `SELECT f.id, f.volume_id AS volumeId, v.device, f.size_bytes AS sizeBytes, f.modified_us AS modifiedUs, f.inode, f.changed_us AS changedUs,
        f.name, f.raw_name AS rawName, d.path AS folder, d.raw_path AS rawFolder, s.ends, s.xxh64, s.shared_bytes AS sharedBytes
      FROM same_size x JOIN files f ON f.id = x.file_id JOIN folders d ON d.id = f.folder_id JOIN volumes v ON v.id = f.volume_id
      LEFT JOIN file_sums s ON s.file_id = f.id AND s.size_bytes = f.size_bytes AND s.modified_us = f.modified_us
        AND s.inode <=> f.inode AND s.changed_us <=> f.changed_us
      WHERE x.n > ? AND x.n <= ? ORDER BY x.n`,
      [from, from + PAGE],
    )) as unknown as [Row[]];
    if (rows.length === 0) break;
    for (const row of rows) {
      if (group.length > 0 && group[0]!.sizeBytes !== row.sizeBytes) {
        yield group;
        group = [];
      }
      group.push(row);
    }
  }
  if (group.length > 0) yield group;
}

/** Groups of one size each: by their ends first, and whole where those are the same. */
async function compare(context: JobContext, groups: readonly Row[][], all: Comparing): Promise<void> {
  const files = groups.map(withoutLinks);
  for (const [i, group] of groups.entries()) {
    all.links.files += group.length - files[i]!.length;
    all.links.bytes += (group.length - files[i]!.length) * (group[0]?.sizeBytes ?? 0);
  }
  const wanted = files.filter((own) => own.length > 1);
  // An archive may have it under another name: of that only the sum over the whole is kept.
  const mayBeArchived = files.flat().filter((row) => {
    const known = all.archived.get(row.sizeBytes);
    return known !== undefined && !known.has(row.id);
  });
  const unknown = [...new Set([...wanted.flat(), ...mayBeArchived])].filter((row) => row.ends === null);
  const sumAll = async (rows: readonly Row[], sums: 'ends' | 'whole', told: (row: Row, sum: string) => void) => {
    for (const some of inSlices(asTheyLie(rows), AT_ONCE)) await all.kept.add(await sum(context, some, { sums, told }));
  };
  await sumAll(
    unknown.filter((row) => row.sizeBytes > SMALL_BYTES),
    'ends',
    (row, sum) => (row.ends = sum),
  );
  // A small one is read whole at once: opening it costs more than its middle.
  await sumAll(
    unknown.filter((row) => row.sizeBytes <= SMALL_BYTES),
    'whole',
    (row, sum) => (row.ends = row.xxh64 = sum),
  );
  const alike = wanted.flatMap((files) => {
    const byEnds = new Map<string, Row[]>();
    for (const row of files) {
      if (row.ends === null) continue;
      const own = byEnds.get(row.ends);
      if (own) own.push(row);
      else byEnds.set(row.ends, [row]);
    }
    return [...byEnds.values()].filter((same) => same.length > 1).flat();
  });
  await sumAll(
    [...new Set([...alike, ...mayBeArchived])].filter((row) => row.ends !== null && row.xxh64 === null),
    'whole',
    (row, sum) => (row.xxh64 = sum),
  );
  for (const same of wanted.flatMap(onOneDisk)) await lookForClones(context, same, all);
  for (const group of groups) for (const row of group) context.add(row.sizeBytes);
  await context.checkIn();
}

/** Of files of one size those of the same bytes on one file system. */
function onOneDisk(files: readonly Row[]): Row[][] {
  const same = new Map<string, Row[]>();
  for (const row of files) {
    if (row.xxh64 === null || row.device === null) continue;
    const key = `${row.device} ${row.xxh64}`;
    const own = same.get(key);
    if (own) own.push(row);
    else same.set(key, [row]);
  }
  return [...same.values()].filter((own) => own.length > 1);
}

/**
 * A copy may share its blocks with what it was made of, and frees nothing then. It can be made without a trace in the other's
 * facts: asked each time.
 */
async function lookForClones(context: JobContext, same: readonly Row[], all: Comparing): Promise<void> {
  if (!(await mayShare(context, same[0]!.volumeId))) return;
  const changed: Row[] = [];
  let clones = -1;
  await inParallel(context.pools.content.size, same, async (row) => {
    context.check();
    const root = await context.root(row.volumeId);
    if (!root || row.rawName || row.rawFolder) return;
    const told = await sharedBytes(root.place(placeOfFile(row)) as string).catch(() => null);
    if (sharesAll(told, row.sizeBytes)) clones++;
    if (told === row.sharedBytes) return;
    row.sharedBytes = told;
    changed.push(row);
  });
  if (changed.length > 0) await all.kept.add(changed);
  if (clones <= 0) return;
  all.links.clones.files += clones;
  all.links.clones.bytes += clones * same[0]!.sizeBytes;
}

/** By job and volume, once in each. */
const sharing = new WeakMap<JobContext, Map<number, boolean>>();
async function mayShare(context: JobContext, volumeId: number): Promise<boolean> {
  const known = sharing.get(context) ?? new Map<number, boolean>();
  sharing.set(context, known);
  const told = known.get(volumeId);
  if (told !== undefined) return told;
  const root = await context.root(volumeId);
  const may = root !== null && (await mayShareBlocks(root.top));
  known.set(volumeId, may);
  return may;
}

/** The end of a file may lie in a block of its own. */
const APART_BYTES = 8192;
export const sharesAll = (shared: number | null, sizeBytes: number): boolean =>
  shared !== null && shared > 0 && shared >= sizeBytes - APART_BYTES;

/** By volume and folder: a folder is opened once, and a disk that turns goes one way. */
const asTheyLie = (rows: readonly Row[]): Row[] =>
  [...rows].sort(
    (a, b) => a.volumeId - b.volumeId || order(a.folder, b.folder) || (a.inode ?? 0) - (b.inode ?? 0) || a.id - b.id,
  );
const order = (a: string, b: string): number => (a === b ? 0 : a < b ? -1 : 1);

/**
 * Sums files in the threads, some at a time, and no more bytes at once than a person would wait for to cancel. Gives those
 * that could be read.
 */
async function sum(
  context: JobContext,
  rows: readonly Row[],
  { sums, told }: { sums: 'ends' | 'whole'; told: (row: Row, sum: string) => void },
): Promise<Row[]> {
  const summed: Row[] = [];
  await inParallel(context.pools.content.size * 2, portions(rows, sums), async (some) => {
    context.check();
    const asked = [];
    for (const row of some) {
      const root = await context.root(row.volumeId);
      if (!root) continue;
      // Nothing is written here, and a file is the one that was meant by its own facts, whichever folder it was reached through.
      root.holdsForMs = FOLDER_HOLDS_MS;
      asked.push({ row, place: () => root.place(placeOfFile(row)), expected: expectationOf(row) });
    }
    const answers = await sumMany(context.pools.content, asked, { sums, stop: context.stop });
    for (const [i, answer] of answers.entries()) {
      if (answer === null) continue;
      told(asked[i]!.row, answer);
      summed.push(asked[i]!.row);
    }
  });
  return summed;
}

function portions(rows: readonly Row[], sums: 'ends' | 'whole'): Row[][] {
  const all: Row[][] = [];
  let bytes = 0;
  for (const row of rows) {
    const last = all.at(-1);
    if (last && last.length < MOST_AT_ONCE && (sums === 'ends' || bytes < PORTION_BYTES)) last.push(row);
    else {
      all.push([row]);
      bytes = 0;
    }
    bytes += row.sizeBytes;
  }
  return all;
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

async function keep(context: JobContext, rows: readonly Row[]): Promise<void> {
  if (rows.length === 0) return;
  const told = (value: number | string | null) => value ?? '\\N';
  const lines = rows.map(({ id, sizeBytes, modifiedUs, inode, changedUs, ends, xxh64, sharedBytes: shared }) =>
    [id, sizeBytes, modifiedUs, told(inode), told(changedUs), ends, told(xxh64), told(shared)].join('\t'),
  );
  const write = async ({ $connection: connection }: Transaction) => {
    await replaceRows(
      connection,
      'file_sums (file_id, size_bytes, modified_us, inode, changed_us, ends, xxh64, shared_bytes)',
      [`${lines.join('\n')}\n`],
    );
  };
  await context.transactionLeaseLast(write, () => Promise.resolve());
}

const LINKS = 'files with other names';

/** Names of files beyond their first, and copies that share their blocks: removing one frees nothing. */
export interface OtherNames {
  files: number;
  bytes: number;
  clones: { files: number; bytes: number };
}

async function setLinks(tx: Transaction, links: OtherNames): Promise<void> {
  const value = JSON.stringify(links);
  await tx.insert(site).values({ key: LINKS, value }).onDuplicateKeyUpdate({ set: { value } });
}

/** What the last comparison found of them; null before the first. */
export async function otherNames(db: Db): Promise<OtherNames | null> {
  const [row] = await db.select().from(site).where(eq(site.key, LINKS));
  const none = { files: 0, bytes: 0 };
  return row ? { clones: none, ...(JSON.parse(row.value) as Omit<OtherNames, 'clones'>) } : null;
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
