// Where something is on the shelf: in which archives a file lies, on which carriers, and where those are. For the search field
// and `keramion where`; what left its place long ago is found by the name it had.
import { and, desc, eq, inArray, type SQL, sql } from 'drizzle-orm';
import { waitSeconds } from '../carriers/kinds.ts';
import type { Db } from '../db/connect.ts';
import { hasPart, idList } from '../db/conditions.ts';
import { archiveParts, copyParts } from '../db/schema/archives.ts';
import { carriers } from '../db/schema/stores.ts';

export interface Stored {
  archiveFileId: number;
  archiveId: number;
  archive: string;
  folder: string;
  /** What it was called, and where it lies in the archive. */
  name: string;
  at: string;
  bytes: number;
  /** Good copies of the part that it lies in. */
  copies: {
    carrier: string;
    place: string;
    folder: string;
    isThere: boolean;
    waitSeconds: number;
    readBackMs: number | null;
  }[];
}

interface Asked {
  words: readonly string[];
  /** Of the archives' files those that have the words in their names, where an index said so; null: the rows are looked through. */
  ids: readonly number[] | null;
  most: number;
  /** What of them is asked for besides. */
  only?: Only;
}

/** In which archives, what it is, and where a good copy of it is kept; left out: any. */
export interface Only {
  archiveIds?: readonly number[];
  kind?: StoredKind;
  place?: string;
}

/** What lies in an archive, by the folder of its payload that it went into. */
export const STORED_KINDS = [
  'media',
  'deliveries',
  'documents',
  'renders',
  'proxies',
  'backups',
  'other files',
] as const;
export type StoredKind = (typeof STORED_KINDS)[number];

function conditionsOf({ archiveIds, kind, place }: Only): SQL {
  const all: SQL[] = [sql`TRUE`];
  if (archiveIds !== undefined) all.push(sql`a.archive_id IN ${idList([...archiveIds, 0])}`);
  if (kind !== undefined) all.push(sql`SUBSTRING_INDEX(a.payload_path, '/', 1) = ${kind}`);
  if (place !== undefined)
    all.push(
      sql`EXISTS (SELECT 1 FROM copy_parts c JOIN carriers k ON k.id = c.carrier_id WHERE c.part_id = a.part_id AND c.state = 'good' AND k.place = ${place})`,
    );
  return sql.join(all, sql` AND `);
}

/** The latest archives first. */
export async function whereStored(db: Db, { words, ids, most, only = {} }: Asked): Promise<Stored[]> {
  if (words.length === 0 || ids?.length === 0) return [];
  const name = sql.raw(`SUBSTRING_INDEX(a.path, '/', -1)`);
  const own = sql.raw(`CONCAT_WS(' ', SUBSTRING_INDEX(a.payload_path, '/', -1), SUBSTRING_INDEX(a.path, '/', -1))`);
  const named = ids
    ? sql`a.id IN ${idList(ids)}`
    : sql.join(
        words.map((word) => hasPart(own, word)),
        sql` AND `,
      );
  const [rows] = (await db.execute(sql`
    SELECT a.id AS archiveFileId, a.archive_id AS archiveId, r.name AS archive, r.folder, ${name} AS name, a.payload_path AS at, a.part_id AS partId,
      COALESCE(a.payload_bytes, a.size_bytes) AS bytes
    FROM archive_files a JOIN archives r ON r.id = a.archive_id AND r.state = 'sealed' AND r.purpose = 'archive'
    WHERE ${named} AND a.role <> 'document' AND ${conditionsOf(only)} ORDER BY a.archive_id DESC, a.id LIMIT ${most}`)) as unknown as [
    (Omit<Stored, 'copies'> & { partId: number })[],
  ];
  const copies = await copiesOf(
    db,
    rows.map((row) => Number(row.partId)),
  );
  return rows.map(({ partId, ...row }) => ({
    ...row,
    ...{ archiveFileId: Number(row.archiveFileId), archiveId: Number(row.archiveId), bytes: Number(row.bytes) },
    copies: copies.get(Number(partId)) ?? [],
  }));
}

async function copiesOf(db: Db, partIds: readonly number[]): Promise<Map<number, Stored['copies']>> {
  const copies = new Map<number, Stored['copies']>();
  if (partIds.length === 0) return copies;
  const rows = await db
    .select({ part: copyParts, of: archiveParts, carrier: carriers })
    .from(copyParts)
    .innerJoin(carriers, eq(carriers.id, copyParts.carrierId))
    .innerJoin(archiveParts, eq(archiveParts.id, copyParts.partId))
    .where(and(eq(copyParts.state, 'good'), inArray(copyParts.partId, [...new Set(partIds)])))
    .orderBy(desc(eq(carriers.state, 'reachable')), copyParts.id);
  for (const { part, of, carrier } of rows)
    copies.set(part.partId, [
      ...(copies.get(part.partId) ?? []),
      {
        ...{ carrier: carrier.name, place: carrier.place, isThere: carrier.state === 'reachable' },
        ...{ folder: part.folder ?? of.folder, waitSeconds: waitSeconds(carrier) },
        readBackMs: part.readBackAt?.getTime() ?? null,
      },
    ]);
  return copies;
}
