// Carriers, archives and their copies, for the shelf and the archive lens.
import { and, desc, eq, inArray, sql } from 'drizzle-orm';
import type { ArchiveId, CarrierId, ProjectId } from '#core/model.ts';
import { copiesShort } from '#core/archive/copies.ts';
import { grouped } from '#core/grouped.ts';
import { copiesRule } from '../site/house-rules.ts';
import { carrierKindOf } from '../carriers/kinds.ts';
import { packedName } from '../carriers/packers.ts';
import type { Database, Db } from '../db/connect.ts';
import { archiveCopies, archiveFiles, archiveParts, archives, copyParts } from '../db/schema/archives.ts';
import { files } from '../db/schema/catalogue.ts';
import { carriers } from '../db/schema/stores.ts';

export interface ArchiveRow {
  archiveId: ArchiveId;
  projectId: ProjectId;
  name: string;
  folder: string;
  /** What lies on its carriers: the folder, or one file. */
  lies: string;
  state: 'writing' | 'sealed' | 'ended early';
  files: number;
  bytes: number;
  sealedMs: number | null;
  copies: CopyRow[];
  /** The archive it builds on, by its folder; null where it stands alone. */
  buildsOn: string | null;
  /** Originals that are still where they were. */
  originalsBytes: number;
  /** Files that were to go in and could not. */
  gaps: number;
  /** What is short of the copies that the house wants, in words; null where nothing is. */
  short: string | null;
}

export interface CopyRow {
  copyId: number;
  /** In the order of its parts, each carrier once. */
  carriers: { carrierId: CarrierId; name: string }[];
  state: string;
  readBackMs: number | null;
}

export async function archiveRows(db: Database): Promise<ArchiveRow[]> {
  const all = await db
    .select()
    .from(archives)
    .where(and(eq(archives.purpose, 'archive'), inArray(archives.state, ['writing', 'sealed'])))
    .orderBy(desc(archives.id));
  if (all.length === 0) return [];
  const ids = all.map((a) => a.id);
  const onCarriers = await db
    .select({ copy: archiveCopies, carrierId: carriers.id, carrier: carriers.name, place: carriers.place })
    .from(archiveCopies)
    .innerJoin(copyParts, eq(copyParts.copyId, archiveCopies.id))
    .innerJoin(carriers, eq(carriers.id, copyParts.carrierId))
    .where(inArray(archiveCopies.archiveId, ids))
    .orderBy(copyParts.id);
  const left = await db
    .select({ archiveId: archiveFiles.archiveId, bytes: sql`SUM(${archiveFiles.sizeBytes})`.mapWith(Number) })
    .from(archiveFiles)
    .innerJoin(files, eq(files.id, archiveFiles.fileId))
    .where(
      sql`${inArray(archiveFiles.archiveId, ids)} AND ${archiveFiles.role} NOT IN ('document', 'part') AND ${files.goneAt} IS NULL`,
    )
    .groupBy(archiveFiles.archiveId);
  const rule = await copiesRule(db);
  const copies = [...grouped(onCarriers, ({ copy }) => copy.id).values()];
  const byId = new Map(all.map((a) => [a.id, a]));
  // What it builds on is as much of it as what it has of its own.
  const chain = (a: (typeof all)[number]): number[] => {
    const base = a.baseId === null ? undefined : byId.get(a.baseId);
    return [a.id, ...(a.baseId === null ? [] : base ? chain(base) : [a.baseId])];
  };
  const placesOf = (id: number) =>
    copies
      .filter(([one]) => one!.copy.archiveId === id && one!.copy.state === 'good')
      .map((parts) => parts.map(({ place }) => place));
  return all.map((a) => ({
    short:
      a.state === 'sealed'
        ? (chain(a)
            .map((id) => copiesShort(placesOf(id), rule))
            .find((short) => short !== null) ?? null)
        : null,
    buildsOn: a.baseId === null ? null : (byId.get(a.baseId)?.folder ?? 'an archive that is not there any more'),
    archiveId: a.id as ArchiveId,
    projectId: a.projectId as ProjectId,
    name: a.name,
    folder: a.folder,
    lies: packedName(a.folder, a.packer),
    state: a.state,
    files: a.files,
    gaps: a.gaps,
    bytes: a.bytes,
    sealedMs: a.sealedAt?.getTime() ?? null,
    copies: copies
      .filter(([one]) => one!.copy.archiveId === a.id)
      .map((parts) => ({
        copyId: parts[0]!.copy.id,
        carriers: [...new Map(parts.map(({ carrierId, carrier }) => [carrierId, carrier]))].map(([id, name]) => ({
          carrierId: id as CarrierId,
          name,
        })),
        state: parts[0]!.copy.state,
        readBackMs: parts[0]!.copy.readBackAt?.getTime() ?? null,
      })),
    originalsBytes: left.find((row) => row.archiveId === a.id)?.bytes ?? 0,
  }));
}

export interface CarrierRow {
  carrierId: CarrierId;
  name: string;
  /** The kind of carrier, as people call it. */
  type: string;
  place: string;
  state: string;
  capacityBytes: number;
  usedBytes: number;
  /** What its capacity leaves, and what it said itself when it was last looked at: the less of the two. */
  freeBytes: number;
  layers: { archiveId: ArchiveId; name: string; folder: string; bytes: number; state: string }[];
}

export async function carrierRows(db: Db): Promise<CarrierRow[]> {
  const all = await db.select().from(carriers).orderBy(carriers.name);
  const on = await db
    .select({ part: copyParts, of: archiveParts, archive: archives })
    .from(copyParts)
    .innerJoin(archiveParts, eq(archiveParts.id, copyParts.partId))
    .innerJoin(archives, eq(archives.id, archiveParts.archiveId))
    .where(inArray(copyParts.state, ['writing', 'good', 'damaged']));
  return all.map((carrier) => {
    const layers = on
      .filter(({ part }) => part.carrierId === carrier.id)
      .map(({ part, of, archive }) => ({
        archiveId: archive.id as ArchiveId,
        name: archive.name,
        folder: of.folder,
        bytes: of.bytes,
        state: part.state,
      }));
    const usedBytes = layers.reduce((sum, layer) => sum + layer.bytes, 0);
    return {
      carrierId: carrier.id as CarrierId,
      name: carrier.name,
      type: carrierKindOf(carrier.kind).name,
      place: carrier.place,
      state: carrier.state,
      capacityBytes: carrier.capacityBytes,
      usedBytes,
      freeBytes: Math.max(0, Math.min(carrier.capacityBytes - usedBytes, carrier.freeBytes ?? Infinity)),
      layers,
    };
  });
}

/** Room on a carrier right now: what it says itself, within what its capacity leaves beside its other archives. */
export async function carrierRoom(db: Db, name: string, saidFreeBytes: number): Promise<number> {
  const row = (await carrierRows(db)).find((carrier) => carrier.name === name);
  if (!row) return 0;
  const sealed = row.layers.filter((layer) => layer.state !== 'writing').reduce((sum, layer) => sum + layer.bytes, 0);
  return Math.max(0, Math.min(saidFreeBytes, row.capacityBytes - sealed));
}

/** Copies that did not read back as they were sealed, each with how many others are good. */
export async function damagedCopies(db: Db): Promise<{ archive: string; carrier: string; others: number }[]> {
  const rows = await db
    .select({ partId: copyParts.partId, archive: archives.name, carrier: carriers.name, state: copyParts.state })
    .from(copyParts)
    .innerJoin(archiveParts, eq(archiveParts.id, copyParts.partId))
    .innerJoin(archives, eq(archives.id, archiveParts.archiveId))
    .innerJoin(carriers, eq(carriers.id, copyParts.carrierId))
    .where(inArray(copyParts.state, ['good', 'damaged']));
  return rows
    .filter((row) => row.state === 'damaged')
    .map(({ archive, carrier, partId }) => ({
      archive,
      carrier,
      others: rows.filter((row) => row.partId === partId && row.state === 'good').length,
    }));
}
