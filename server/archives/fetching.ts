// What it takes to have something of an archive here: from which carriers it comes, how long those need, and in which order
// files are read from tapes.
import { inArray, sql } from 'drizzle-orm';
import { type Fetch, fetchFrom, type FromCarrier } from '#core/archive/fetching.ts';
import type { TapeGeometry } from '#core/archive/tape-order.ts';
import { carrierKindOf } from '../carriers/kinds.ts';
import { idList } from '../db/conditions.ts';
import type { Db } from '../db/connect.ts';
import { carriers } from '../db/schema/stores.ts';
import type { CopyPart } from './copies.ts';

/**
 * @param parts the part of each copy that is read from
 * @param fileIds of the archive's files; null for all
 */
export async function fetchOf(
  db: Db,
  archiveId: number,
  { parts, fileIds }: { parts: readonly CopyPart[]; fileIds: readonly number[] | null },
): Promise<Fetch> {
  if (parts.length === 0) return fetchFrom([]);
  const rows = await db
    .select()
    .from(carriers)
    .where(inArray(carriers.id, [...new Set(parts.map((part) => part.carrierId))]));
  const from: FromCarrier[] = [];
  for (const carrier of rows) {
    const own = parts.filter((part) => part.carrierId === carrier.id);
    const kind = carrierKindOf(carrier.kind);
    const { seconds = 0, mountSeconds = 0, costPerGb = 0 } = kind.fetching?.(carrier.settings) ?? {};
    const geometry = carrier.facts?.geometry ?? null;
    from.push({
      ...{ carrier: carrier.name, thawSeconds: seconds, mountSeconds, costPerGb },
      bytes: await bytesIn(db, archiveId, { parts: own, fileIds }),
      tape: geometry && { geometry, files: await onTape(db, archiveId, { parts: own, fileIds, geometry }) },
    });
  }
  return fetchFrom(from);
}

interface Of {
  parts: readonly CopyPart[];
  fileIds: readonly number[] | null;
}

const among = ({ fileIds }: Of) => (fileIds === null ? sql`` : sql`AND f.id IN ${idList([...fileIds, 0])}`);

async function bytesIn(db: Db, archiveId: number, of: Of): Promise<number> {
  const [rows] = (await db.execute(sql`
    SELECT COALESCE(SUM(COALESCE(f.payload_bytes, f.size_bytes)), 0) AS bytes FROM archive_files f
    WHERE f.archive_id = ${archiveId} AND f.part_id IN ${idList(of.parts.map((part) => part.partId))} ${among(of)}`)) as unknown as [
    { bytes: string | number }[],
  ];
  return Number(rows[0]!.bytes);
}

async function onTape(db: Db, archiveId: number, { geometry, ...of }: Of & { geometry: TapeGeometry }) {
  const [rows] = (await db.execute(sql`
    SELECT f.id, c.position, COALESCE(f.payload_bytes, f.size_bytes) AS bytes FROM archive_files f
    JOIN copy_files c ON c.archive_file_id = f.id AND c.copy_part_id IN ${idList(of.parts.map((part) => part.copyPartId))} AND c.position IS NOT NULL
    WHERE f.archive_id = ${archiveId} ${among(of)} ORDER BY f.payload_path`)) as unknown as [
    { id: number; position: number; bytes: number }[],
  ];
  return rows.map((row) => ({
    archiveFileId: Number(row.id),
    startBlock: Number(row.position),
    blocks: Math.ceil(Number(row.bytes) / geometry.blockBytes),
  }));
}
