// The register of carriers: where each is, who has it, how old it is, and what became of it. Every move is in the ledger.
import { isoDay } from '#core/house-time.ts';
import { and, asc, desc, eq, inArray, sql } from 'drizzle-orm';
import type { ArchiveId, CarrierId } from '#core/model.ts';
import { day, listed } from '#core/wording/amounts.ts';
import { type CarrierRow, carrierRows } from '../archives/shelf.ts';
import { carrierKindOf, waitSeconds } from '../carriers/kinds.ts';
import { type Database, type Db, inTransaction } from '../db/connect.ts';
import { archiveCopies, archiveParts, archives, copyFiles, copyParts } from '../db/schema/archives.ts';
import { jobs, jobStores } from '../db/schema/jobs.ts';
import { receipts } from '../db/schema/receipts.ts';
import { carriers } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';
import type { By } from './places.ts';

export interface Whereabouts {
  place: string;
  /** Null: nobody has it, it is in its place. */
  lentTo: string | null;
  dueAt: Date | null;
  /** Since when it is used; null where nobody knows. */
  since: Date | null;
}

/** Says where a carrier is now. Throws Refused where that is what was known. */
export async function moveCarrier(
  db: Database,
  carrierId: CarrierId,
  to: Whereabouts,
  { who, now }: By,
): Promise<string> {
  return inTransaction(db, async (tx) => {
    const [carrier] = await tx.select().from(carriers).where(eq(carriers.id, carrierId)).for('update');
    if (!carrier) throw new Refused('There is no such carrier. Nothing was changed.');
    if (to.lentTo === null && to.dueAt !== null)
      throw new Refused(
        'What is due back is lent to somebody. Say to whom, or leave the day out. Nothing was changed.',
      );
    if (to.since !== null && to.since > now)
      throw new Refused('It cannot be in use since a day that has not come yet. Nothing was changed.');
    const title = movedWords(carrier, to);
    if (title === null) throw new Refused(`That is what is known of ${carrier.name} already. Nothing was changed.`);
    const isNewLoan = to.lentTo !== null && to.lentTo !== carrier.lentTo;
    await tx
      .update(carriers)
      .set({ ...to, lentAt: to.lentTo === null ? null : isNewLoan ? now : carrier.lentAt })
      .where(eq(carriers.id, carrierId));
    await writeReceipt(tx, {
      ...{ at: now, who, action: 'carrier moved', title, files: 0, bytes: 0, held: 0 },
      facts: { carrierId, from: placeOf(carrier), to: { ...to } },
      itemsSha256: itemsHash([]),
    });
    return title;
  });
}

type Row = typeof carriers.$inferSelect;
const placeOf = ({ place, lentTo, dueAt, since }: Row): Whereabouts => ({ place, lentTo, dueAt, since });
const dayIn = (at: Date | null) => (at ? isoDay(at.getTime()) : undefined);
const sameDay = (a: Date | null, b: Date | null) => dayIn(a) === dayIn(b);

/** "KD-0003 lent to Ida Holm, due back on 3 Dec 2026"; null where nothing changes. */
function movedWords(from: Row, to: Whereabouts): string | null {
  const parts = [
    to.lentTo !== null && (to.lentTo !== from.lentTo || !sameDay(to.dueAt, from.dueAt))
      ? `lent to ${to.lentTo}${to.dueAt ? `, due back on ${day(to.dueAt.getTime())}` : ''}`
      : null,
    to.lentTo === null && from.lentTo !== null ? `back from ${from.lentTo}` : null,
    to.place !== from.place ? `from ${from.place} to ${to.place}` : null,
    !sameDay(to.since, from.since) ? `in use since ${to.since ? day(to.since.getTime()) : 'nobody knows when'}` : null,
  ].filter((part) => part !== null);
  return parts.length === 0 ? null : `${from.name} ${listed(parts)}`;
}

export interface CarrierPage extends CarrierRow {
  sinceMs: number | null;
  lent: { to: string; sinceMs: number; dueMs: number | null } | null;
  seenMs: number | null;
  holds: Held[];
  moves: { id: number; atMs: number; who: string; title: string }[];
  /** Pieces of work that wrote on it, and that read it whole or in part. */
  written: number;
  read: number;
  /** Files on it that did not read back as they were sealed. */
  errors: number;
  /** How often it was taken into a drive; null where it is in none. */
  passes: number | null;
  waitSeconds: number;
  costPerGb: number;
  /** Folders on it that are not in the catalogue; empty where they cannot be seen without bringing it up. */
  strangers: string[];
}

/** Folders of this machine that carriers take up. */
export async function carrierPlaces(db: Db): Promise<{ carrierId: CarrierId; name: string; folder: string }[]> {
  const rows = await db.select().from(carriers);
  return rows.flatMap(({ id, name, kind, settings }) =>
    [...carrierKindOf(kind).folders(settings)].map((folder) => ({ carrierId: id as CarrierId, name, folder })),
  );
}

/** Folders, tars and zips at its top that are in no catalogue, as far as a worker saw them. */
function strangers(row: typeof carriers.$inferSelect, holds: readonly Held[]): string[] {
  // An archive of ours that is one file has its ending beside its name.
  const known = new Set(
    holds.flatMap(({ folder }) => ['', '.tar', '.zip'].map((ending) => folder.split('/')[0] + ending)),
  );
  return (row.facts?.top ?? []).filter((name) => !known.has(name));
}

interface Held {
  copyPartId: number;
  archiveId: ArchiveId;
  name: string;
  folder: string;
  files: number;
  bytes: number;
  state: string;
  readBackMs: number | null;
}

const MOST_MOVES = 50;

/** Null where there is none of this number. */
export async function carrierPage(db: Db, carrierId: CarrierId): Promise<CarrierPage | null> {
  const [row] = await db.select().from(carriers).where(eq(carriers.id, carrierId));
  const shown = (await carrierRows(db)).find((one) => one.carrierId === carrierId);
  if (!row || !shown) return null;
  const [holds, moves, passes, errors] = await Promise.all([
    heldOn(db, carrierId),
    movesOf(db, carrierId),
    passesOf(db, carrierId),
    errorsOn(db, carrierId),
  ]);
  return {
    ...shown,
    ...{ sinceMs: row.since?.getTime() ?? null, seenMs: row.seenAt?.getTime() ?? null },
    lent:
      row.lentTo === null
        ? null
        : { to: row.lentTo, sinceMs: row.lentAt!.getTime(), dueMs: row.dueAt?.getTime() ?? null },
    ...{ holds, moves, errors, ...passes, passes: row.facts?.passes ?? null, waitSeconds: waitSeconds(row) },
    costPerGb: carrierKindOf(row.kind).fetching?.(row.settings).costPerGb ?? 0,
    strangers: strangers(row, holds),
  };
}

async function heldOn(db: Db, carrierId: number): Promise<Held[]> {
  const rows = await db
    .select({ part: copyParts, of: archiveParts, archive: archives, copy: archiveCopies })
    .from(copyParts)
    .innerJoin(archiveCopies, eq(archiveCopies.id, copyParts.copyId))
    .innerJoin(archiveParts, eq(archiveParts.id, copyParts.partId))
    .innerJoin(archives, eq(archives.id, archiveParts.archiveId))
    .where(and(eq(copyParts.carrierId, carrierId), inArray(copyParts.state, ['writing', 'good', 'damaged'])))
    .orderBy(asc(copyParts.id));
  return rows.map(({ part, of, archive, copy }) => ({
    ...{
      copyPartId: part.id,
      archiveId: archive.id as ArchiveId,
      name: archive.name,
      folder: part.folder ?? of.folder,
    },
    ...{ files: of.files, bytes: of.bytes, readBackMs: part.readBackAt?.getTime() ?? null },
    state: copy.replacedBy === null ? part.state : 'replaced',
  }));
}

async function movesOf(db: Db, carrierId: number) {
  const rows = await db
    .select({ id: receipts.id, at: receipts.at, who: receipts.who, title: receipts.title })
    .from(receipts)
    .where(and(eq(receipts.action, 'carrier moved'), sql`JSON_VALUE(${receipts.facts}, '$.carrierId') = ${carrierId}`))
    .orderBy(desc(receipts.id))
    .limit(MOST_MOVES);
  return rows.map(({ at, ...row }) => ({ ...row, atMs: at.getTime() }));
}

async function passesOf(db: Db, carrierId: number): Promise<{ written: number; read: number }> {
  const [row] = await db
    .select({
      written: sql`COALESCE(SUM(${jobStores.mode} = 'change'), 0)`.mapWith(Number),
      read: sql`COALESCE(SUM(${jobStores.mode} = 'look'), 0)`.mapWith(Number),
    })
    .from(jobStores)
    .innerJoin(jobs, eq(jobs.id, jobStores.jobId))
    .where(and(eq(jobStores.store, 'carrier'), eq(jobStores.storeId, carrierId), sql`${jobs.startedAt} IS NOT NULL`));
  return row!;
}

async function errorsOn(db: Db, carrierId: number): Promise<number> {
  const [row] = await db
    .select({ n: sql`COUNT(*)`.mapWith(Number) })
    .from(copyParts)
    .innerJoin(copyFiles, eq(copyFiles.copyPartId, copyParts.id))
    .where(and(eq(copyParts.carrierId, carrierId), eq(copyFiles.state, 'damaged')));
  return row!.n;
}

/** Carriers that are due back, and those that are older than the house wants them. */
export async function carriersToTell(db: Db, mostYears: number, now: Date) {
  const rows = await db.select().from(carriers);
  const year = 365.25 * 86_400_000;
  return rows.flatMap(({ id, name, lentTo, dueAt, since }) => {
    const years = since === null ? 0 : (now.getTime() - since.getTime()) / year;
    const isLate = lentTo !== null && dueAt !== null && dueAt < now;
    const isOld = mostYears > 0 && years >= mostYears;
    if (!isLate && !isOld) return [];
    return [
      {
        ...{ carrierId: id as CarrierId, name },
        late: isLate ? { to: lentTo, dueMs: dueAt.getTime() } : null,
        years: isOld ? Math.floor(years) : null,
      },
    ];
  });
}
