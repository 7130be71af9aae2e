// Carriers, archives and their copies, for the shelf and the archive lens.
import { and, desc, eq, inArray, notInArray, or, sql } from 'drizzle-orm';
import type { ArchiveId, CarrierId, ProjectId } from '#core/model.ts';
import { type CopiesRule, copiesShort } from '#core/archive/copies.ts';
import { grouped } from '#core/grouped.ts';
import { copiesRule } from '../site/house-rules.ts';
import { carrierKindOf, waitSeconds } from '../carriers/kinds.ts';
import { packedName } from '../carriers/packers.ts';
import type { Database, Db } from '../db/connect.ts';
import { archiveCopies, archiveFiles, archiveParts, archives, copyParts } from '../db/schema/archives.ts';
import { files } from '../db/schema/catalogue.ts';
import { projects } from '../db/schema/projects.ts';
import { carriers } from '../db/schema/stores.ts';

export interface ArchiveRow {
  archiveId: ArchiveId;
  projectId: ProjectId;
  name: string;
  folder: string;
  /** What lies on its carriers: the folder, or one file. */
  lies: string;
  state: 'writing' | 'sealed' | 'ended early' | 'let go';
  files: number;
  bytes: number;
  sealedMs: number | null;
  copies: CopyRow[];
  /** The archive it builds on, by its folder; null where it stands alone. */
  buildsOn: string | null;
  /** Originals of the project's own that are still where they were: what it borrowed stays for others. */
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
  /** All its carriers are in reach now. */
  isThere: boolean;
  /** Until its first byte is here, beyond that; and what the store asks for a GB. */
  waitSeconds: number;
  costPerGb: number;
}

/** All of them, or one; the latest first. */
export async function archiveRows(db: Database, only?: number): Promise<ArchiveRow[]> {
  const all = await db
    .select()
    .from(archives)
    .where(
      and(
        eq(archives.purpose, 'archive'),
        // One that was let go has its page, and is in no list.
        or(
          inArray(archives.state, ['writing', 'sealed']),
          only === undefined ? undefined : and(eq(archives.id, only), eq(archives.state, 'let go')),
        ),
      ),
    )
    .orderBy(desc(archives.id));
  // One builds on others, which say how sure it is.
  const wanted = only === undefined ? all : all.filter((a) => a.id === only);
  if (wanted.length === 0) return [];
  const copies = await copiesOf(
    db,
    all.map((a) => a.id),
  );
  const left = await originalsLeft(
    db,
    wanted.map((a) => a.id),
  );
  const short = shortOf(all, copies, await copiesRule(db));
  const byId = new Map(all.map((a) => [a.id, a]));
  return wanted.map((a) => ({
    ...{ archiveId: a.id as ArchiveId, projectId: a.projectId as ProjectId, name: a.name, folder: a.folder },
    ...{ lies: packedName(a.folder, a.packer), state: a.state, files: a.files, gaps: a.gaps, bytes: a.bytes },
    sealedMs: a.sealedAt?.getTime() ?? null,
    // Of what is made anew every night one copy is meant.
    short: a.state === 'sealed' && !a.night ? short(a) : null,
    buildsOn: a.baseId === null ? null : (byId.get(a.baseId)?.folder ?? 'an archive that is not there any more'),
    copies: (copies.get(a.id) ?? []).map(({ places: _, ...copy }) => copy),
    originalsBytes: left.get(a.id) ?? 0,
  }));
}

type Copy = CopyRow & { places: string[] };

/** As people are told it: what is damaged and has another in its stead asks nothing of anybody. */
const stateOf = ({ replacedBy }: { replacedBy: number | null }, state: string): string =>
  replacedBy === null ? state : 'replaced';

/** Copies of archives, by the archive. */
async function copiesOf(db: Db, ids: readonly number[]): Promise<Map<number, Copy[]>> {
  const rows = await db
    .select({
      copy: archiveCopies,
      carrierId: carriers.id,
      carrier: carriers.name,
      place: carriers.place,
      at: carriers.state,
      ...{ kind: carriers.kind, settings: carriers.settings, facts: carriers.facts, identity: carriers.identity },
    })
    .from(archiveCopies)
    .innerJoin(copyParts, eq(copyParts.copyId, archiveCopies.id))
    .innerJoin(carriers, eq(carriers.id, copyParts.carrierId))
    // What ended early lies nowhere.
    .where(and(inArray(archiveCopies.archiveId, [...ids]), notInArray(archiveCopies.state, ['ended early', 'let go'])))
    .orderBy(copyParts.id);
  const copies = new Map<number, Copy[]>();
  for (const parts of grouped(rows, ({ copy }) => copy.id).values()) {
    const { id, archiveId, readBackAt } = parts[0]!.copy;
    const state = stateOf(parts[0]!.copy, parts[0]!.copy.state);
    const own: Copy = {
      ...{ copyId: id, state, readBackMs: readBackAt?.getTime() ?? null, places: parts.map(({ place }) => place) },
      isThere: parts.every(({ at }) => at === 'reachable'),
      waitSeconds: Math.max(...parts.map((part) => waitSeconds({ ...part, name: part.carrier }))),
      costPerGb: Math.max(
        ...parts.map(({ kind, settings }) => carrierKindOf(kind).fetching?.(settings).costPerGb ?? 0),
      ),
      carriers: [...new Map(parts.map(({ carrierId, carrier }) => [carrierId as CarrierId, carrier]))].map(
        ([carrierId, name]) => ({ carrierId, name }),
      ),
    };
    copies.set(archiveId, [...(copies.get(archiveId) ?? []), own]);
  }
  return copies;
}

/** Bytes of a project's own originals that are still there, by the archive. */
async function originalsLeft(db: Db, ids: readonly number[]): Promise<Map<number, number>> {
  const rows = await db
    .select({ archiveId: archiveFiles.archiveId, bytes: sql`SUM(${archiveFiles.sizeBytes})`.mapWith(Number) })
    .from(archiveFiles)
    .innerJoin(archives, eq(archives.id, archiveFiles.archiveId))
    .innerJoin(files, and(eq(files.id, archiveFiles.fileId), eq(files.projectId, archives.projectId)))
    .where(
      sql`${inArray(archiveFiles.archiveId, [...ids])} AND ${archiveFiles.role} NOT IN ('document', 'part', 'encoded') AND ${files.goneAt} IS NULL AND ${files.kind} <> 'library'`,
    )
    .groupBy(archiveFiles.archiveId);
  return new Map(rows.map((row) => [row.archiveId, row.bytes]));
}

/** What is short of an archive, or of one that it builds on: that is as much of it as what it has of its own. */
function shortOf(
  all: readonly (typeof archives.$inferSelect)[],
  copies: ReadonlyMap<number, Copy[]>,
  rule: CopiesRule,
) {
  const byId = new Map(all.map((a) => [a.id, a]));
  return function short({ id, baseId }: typeof archives.$inferSelect): string | null {
    const good = (copies.get(id) ?? []).filter((copy) => copy.state === 'good');
    const own = copiesShort(
      good.map((copy) => copy.places),
      rule,
    );
    const base = baseId === null ? undefined : byId.get(baseId);
    return own ?? (base ? short(base) : null);
  };
}

/** What is known of the work that was archived, for looking through the shelf. */
export interface WorkFacts {
  name: string;
  client: string;
  year: number | null;
  /** All that somebody may remember of it: people, comments and notes. */
  said: string;
}

export async function factsOfWork(db: Db, projectIds: readonly ProjectId[]): Promise<Map<ProjectId, WorkFacts>> {
  if (projectIds.length === 0) return new Map();
  const rows = await db
    .select()
    .from(projects)
    .where(inArray(projects.id, [...projectIds]));
  return new Map(
    rows.map((row) => [
      row.id as ProjectId,
      {
        ...{ name: row.name, client: row.client, year: row.year },
        said: [row.name, row.client, row.year ?? '', row.people, row.publicComments, row.privateNotes].join('\n'),
      },
    ]),
  );
}

export interface CarrierRow {
  carrierId: CarrierId;
  name: string;
  kind: string;
  /** The kind of carrier, as people call it. */
  type: string;
  place: string;
  /** Who has it; null while it is in its place. */
  lentTo: string | null;
  /** Where its kind last saw it: a slot, a drive; null where it says nothing of that. */
  whereNow: string | null;
  state: string;
  capacityBytes: number;
  usedBytes: number;
  /** What its capacity leaves, and what it said itself when it was last looked at: the less of the two. */
  freeBytes: number;
  /** Since when it is used; null where nobody said. */
  sinceMs: number | null;
  layers: Layer[];
}

/** A part of an archive on a carrier. */
interface Layer {
  archiveId: ArchiveId;
  projectId: ProjectId;
  name: string;
  folder: string;
  bytes: number;
  state: string;
  readBackMs: number | null;
}

export async function carrierRows(db: Db): Promise<CarrierRow[]> {
  const all = await db.select().from(carriers).orderBy(carriers.name);
  const on = await db
    .select({ part: copyParts, of: archiveParts, archive: archives, copy: archiveCopies })
    .from(copyParts)
    .innerJoin(archiveParts, eq(archiveParts.id, copyParts.partId))
    .innerJoin(archives, eq(archives.id, archiveParts.archiveId))
    .innerJoin(archiveCopies, eq(archiveCopies.id, copyParts.copyId))
    .where(inArray(copyParts.state, ['writing', 'good', 'damaged']));
  return all.map((carrier) => {
    const layers = on
      .filter(({ part }) => part.carrierId === carrier.id)
      .map(({ part, of, archive, copy }) => ({
        archiveId: archive.id as ArchiveId,
        projectId: archive.projectId as ProjectId,
        name: archive.name,
        folder: part.folder ?? of.folder,
        bytes: of.bytes,
        state: stateOf(copy, part.state),
        readBackMs: part.readBackAt?.getTime() ?? null,
      }));
    const usedBytes = layers.reduce((sum, layer) => sum + layer.bytes, 0);
    return {
      carrierId: carrier.id as CarrierId,
      name: carrier.name,
      kind: carrier.kind,
      type: carrierKindOf(carrier.kind).name,
      place: carrier.place,
      lentTo: carrier.lentTo,
      whereNow: carrier.facts?.where ?? null,
      state: carrier.state,
      capacityBytes: carrier.capacityBytes,
      usedBytes,
      freeBytes: Math.max(0, Math.min(carrier.capacityBytes - usedBytes, carrier.freeBytes ?? Infinity)),
      sinceMs: carrier.since?.getTime() ?? null,
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

/** Copies that did not read back as they were sealed and wait for repair, each with how many others are good. */
export async function damagedCopies(
  db: Db,
): Promise<{ archiveId: ArchiveId; archive: string; carrier: string; others: number }[]> {
  const rows = await db
    .select({
      partId: copyParts.partId,
      archiveId: archives.id,
      archive: archives.name,
      carrier: carriers.name,
      state: copyParts.state,
      replacedBy: archiveCopies.replacedBy,
    })
    .from(copyParts)
    .innerJoin(archiveCopies, eq(archiveCopies.id, copyParts.copyId))
    .innerJoin(archiveParts, eq(archiveParts.id, copyParts.partId))
    .innerJoin(archives, eq(archives.id, archiveParts.archiveId))
    .innerJoin(carriers, eq(carriers.id, copyParts.carrierId))
    .where(inArray(copyParts.state, ['good', 'damaged']));
  return rows
    .filter((row) => row.state === 'damaged' && row.replacedBy === null)
    .map(({ archiveId, archive, carrier, partId }) => ({
      archiveId: archiveId as ArchiveId,
      archive,
      carrier,
      others: rows.filter((row) => row.partId === partId && row.state === 'good').length,
    }));
}
