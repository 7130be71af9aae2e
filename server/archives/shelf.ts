// Carriers, archives and their copies, for the shelf and the archive lens.
import { desc, eq, inArray, sql } from 'drizzle-orm';
import type { ArchiveId, CarrierId, ProjectId } from '#core/model.ts';
import type { Database } from '../db/connect.ts';
import { archiveCopies, archiveFiles, archives } from '../db/schema/archives.ts';
import { files } from '../db/schema/catalogue.ts';
import { carriers } from '../db/schema/stores.ts';

export interface ArchiveRow {
  archiveId: ArchiveId;
  projectId: ProjectId;
  name: string;
  folder: string;
  state: 'writing' | 'sealed' | 'ended early';
  files: number;
  bytes: number;
  sealedMs: number | null;
  copies: { copyId: number; carrierId: CarrierId; carrier: string; state: string; readBackMs: number | null }[];
  /** Originals that are still where they were. */
  originalsBytes: number;
}

export async function archiveRows(db: Database): Promise<ArchiveRow[]> {
  const all = await db
    .select()
    .from(archives)
    .where(inArray(archives.state, ['writing', 'sealed']))
    .orderBy(desc(archives.id));
  if (all.length === 0) return [];
  const ids = all.map((a) => a.id);
  const copies = await db
    .select({ copy: archiveCopies, carrier: carriers.name })
    .from(archiveCopies)
    .innerJoin(carriers, eq(carriers.id, archiveCopies.carrierId))
    .where(inArray(archiveCopies.archiveId, ids));
  const left = await db
    .select({ archiveId: archiveFiles.archiveId, bytes: sql`SUM(${archiveFiles.sizeBytes})`.mapWith(Number) })
    .from(archiveFiles)
    .innerJoin(files, eq(files.id, archiveFiles.fileId))
    .where(
      sql`${inArray(archiveFiles.archiveId, ids)} AND ${archiveFiles.role} <> 'document' AND ${files.goneAt} IS NULL`,
    )
    .groupBy(archiveFiles.archiveId);
  return all.map((a) => ({
    archiveId: a.id as ArchiveId,
    projectId: a.projectId as ProjectId,
    name: a.name,
    folder: a.folder,
    state: a.state,
    files: a.files,
    bytes: a.bytes,
    sealedMs: a.sealedAt?.getTime() ?? null,
    copies: copies
      .filter(({ copy }) => copy.archiveId === a.id)
      .map(({ copy, carrier }) => ({
        copyId: copy.id,
        carrierId: copy.carrierId as CarrierId,
        carrier,
        state: copy.state,
        readBackMs: copy.readBackAt?.getTime() ?? null,
      })),
    originalsBytes: left.find((row) => row.archiveId === a.id)?.bytes ?? 0,
  }));
}

export interface CarrierRow {
  carrierId: CarrierId;
  name: string;
  type: string;
  place: string;
  state: string;
  capacityBytes: number;
  usedBytes: number;
  layers: { archiveId: ArchiveId; name: string; bytes: number; state: string }[];
}

export async function carrierRows(db: Database): Promise<CarrierRow[]> {
  const all = await db.select().from(carriers).orderBy(carriers.name);
  const on = await db
    .select({ copy: archiveCopies, archive: archives })
    .from(archiveCopies)
    .innerJoin(archives, eq(archives.id, archiveCopies.archiveId))
    .where(inArray(archiveCopies.state, ['writing', 'good', 'damaged']));
  return all.map((carrier) => {
    const layers = on
      .filter(({ copy }) => copy.carrierId === carrier.id)
      .map(({ copy, archive }) => ({
        archiveId: archive.id as ArchiveId,
        name: archive.name,
        bytes: archive.bytes,
        state: copy.state,
      }));
    return {
      carrierId: carrier.id as CarrierId,
      name: carrier.name,
      type: carrier.type,
      place: carrier.place,
      state: carrier.state,
      capacityBytes: carrier.capacityBytes,
      usedBytes: layers.reduce((sum, layer) => sum + layer.bytes, 0),
      layers,
    };
  });
}
