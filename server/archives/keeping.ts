// How long an archive is kept, and whether it may go at all. Letting one go erases nothing on any carrier: it is no longer counted on,
// found or read back, and what lies there may be wiped. Its page and its receipts stay; where its carriers still hold it, it is
// taken in again like anything else.
import { and, eq, inArray, isNull, lte, ne, or, sql } from 'drizzle-orm';
import type { ArchiveId } from '#core/model.ts';
import { day, listed } from '#core/wording/amounts.ts';
import { type Database, type Db, inTransaction, type Transaction } from '../db/connect.ts';
import { archiveCopies, archiveFiles, archiveParts, archives, copyParts } from '../db/schema/archives.ts';
import { jobs } from '../db/schema/jobs.ts';
import { plans, steps } from '../db/schema/plans.ts';
import { carriers } from '../db/schema/stores.ts';
import { Refused } from '../runtime/refused.ts';
import { itemsHash, writeReceipt } from '../runtime/receipts.ts';

export const KEEP_RULES = ['ask', 'until', 'for ever'] as const;
export type KeepRule = (typeof KEEP_RULES)[number];

export interface Keeping {
  rule: KeepRule;
  untilMs: number | null;
  hold: { reason: string; by: string; sinceMs: number } | null;
}

type Row = typeof archives.$inferSelect;
interface By {
  who: string;
  now: Date;
}

export const keepingOf = ({ keepRule, keepUntil, holdReason, holdBy, holdAt }: Row): Keeping => ({
  ...{ rule: keepRule, untilMs: keepUntil?.getTime() ?? null },
  hold: holdReason === null ? null : { reason: holdReason, by: holdBy ?? '', sinceMs: holdAt?.getTime() ?? 0 },
});

/** The words of a rule: "kept for ever", "kept until 3 Mar 2030", "kept until somebody decides". */
export const keepWords = ({ rule, untilMs }: Pick<Keeping, 'rule' | 'untilMs'>): string =>
  rule === 'for ever'
    ? 'kept for ever'
    : rule === 'until'
      ? `kept until ${day(untilMs!)}`
      : 'kept until somebody decides';

async function sealedIn(tx: Transaction, archiveId: ArchiveId): Promise<Row> {
  const [row] = await tx.select().from(archives).where(eq(archives.id, archiveId)).for('update');
  if (row?.state !== 'sealed' || row.purpose !== 'archive')
    throw new Refused('There is no such sealed archive. Nothing was changed.');
  return row;
}

const note = (
  tx: Transaction,
  row: Row,
  { action, title, facts, who, now }: By & { action: string; title: string; facts: object },
) =>
  writeReceipt(tx, {
    ...{ at: now, who, action, title: title.slice(0, 500), projectId: row.projectId },
    ...{ files: 0, bytes: 0, held: 0, facts: { archiveId: row.id, ...facts }, itemsSha256: itemsHash([]) },
  });

/** Says how long an archive is kept. Throws Refused where that is known already, or has no day. */
export async function setKeeping(
  db: Database,
  archiveId: ArchiveId,
  { rule, until }: { rule: KeepRule; until: Date | null },
  by: By,
): Promise<string> {
  if (rule === 'until' && until === null) throw new Refused('Say until which day it is kept. Nothing was changed.');
  return inTransaction(db, async (tx) => {
    const row = await sealedIn(tx, archiveId);
    const to = { rule, untilMs: rule === 'until' ? until!.getTime() : null };
    const from = keepingOf(row);
    if (keepWords(from) === keepWords(to))
      throw new Refused(`${row.name} is ${keepWords(to)} already. Nothing was changed.`);
    await tx
      .update(archives)
      .set({ keepRule: rule, keepUntil: rule === 'until' ? until : null })
      .where(eq(archives.id, archiveId));
    const title = `${row.folder}: ${keepWords(to)}, before ${keepWords(from)}`;
    await note(tx, row, { action: 'archive keeping changed', title, facts: { from: { ...from }, to }, ...by });
    return title;
  });
}

/** Puts an archive under legal hold, or lifts it: until then nobody lets it go. */
export async function setHold(db: Database, archiveId: ArchiveId, reason: string | null, by: By): Promise<string> {
  return inTransaction(db, async (tx) => {
    const row = await sealedIn(tx, archiveId);
    const { hold } = keepingOf(row);
    if (reason === null && hold === null) throw new Refused(`${row.name} is under no legal hold. Nothing was changed.`);
    if (reason !== null && hold !== null)
      throw new Refused(`${row.name} is under legal hold already: ${hold.reason}. Nothing was changed.`);
    if (reason?.trim() === '') throw new Refused('Say why it is held. Nothing was changed.');
    await tx
      .update(archives)
      .set(
        reason === null
          ? { holdReason: null, holdBy: null, holdAt: null }
          : { holdReason: reason.trim(), holdBy: by.who, holdAt: by.now },
      )
      .where(eq(archives.id, archiveId));
    const title =
      reason === null
        ? `${row.folder}: legal hold lifted, set for: ${hold!.reason}`
        : `${row.folder}: under legal hold, ${reason.trim()}`;
    const action = reason === null ? 'legal hold lifted' : 'legal hold set';
    await note(tx, row, { action, title, facts: { reason: reason ?? hold!.reason }, ...by });
    return title;
  });
}

/** Why an archive cannot be let go now, as a sentence; null where it can. */
export async function holdsBack(db: Db, row: Row, now: Date): Promise<string | null> {
  const { rule, untilMs, hold } = keepingOf(row);
  if (hold) return `${row.name} is under legal hold: ${hold.reason}.`;
  if (rule === 'for ever') return `${row.name} is kept for ever.`;
  if (rule === 'until' && untilMs! > now.getTime()) return `${row.name} is kept until ${day(untilMs!)}.`;
  const [built] = await db
    .select({ folder: archives.folder })
    .from(archives)
    .where(
      and(
        ...[ne(archives.id, row.id), inArray(archives.state, ['writing', 'sealed'])],
        or(
          // Of nights the next ones build on what is before them, once nothing that they need lies in this one.
          and(eq(archives.baseId, row.id), row.night ? eq(archives.state, 'writing') : undefined),
          sql`EXISTS (SELECT 1 FROM archive_files f JOIN archive_parts p ON p.id = f.part_id WHERE f.archive_id = ${archives.id} AND p.archive_id = ${row.id})`,
        ),
      ),
    )
    .limit(1);
  if (built) return `${built.folder} builds on it.`;
  const [planned] = await db
    .select({ title: steps.title })
    .from(steps)
    .innerJoin(plans, and(eq(plans.id, steps.planId), inArray(plans.state, ['draft', 'running'])))
    .where(sql`${row.id} IN (JSON_VALUE(${steps.what}, '$.archiveId'), JSON_VALUE(${steps.what}, '$.baseId'))`)
    .limit(1);
  if (planned) return `“${planned.title}” is in the plan, or under way.`;
  const [open] = await db
    .select({ title: jobs.title })
    .from(jobs)
    .where(
      and(
        isNull(jobs.finishedAt),
        sql`JSON_VALUE(${jobs.params}, '$.copyId') IN (SELECT c.id FROM archive_copies c WHERE c.archive_id = ${row.id})`,
      ),
    )
    .limit(1);
  return open ? `“${open.title}” is under way.` : null;
}

/**
 * Lets an archive go.
 * @param typed its folder, typed by whoever lets it go: it may be the only copy
 */
export async function letGo(
  db: Database,
  archiveId: ArchiveId,
  typed: string,
  { who, now }: By,
): Promise<{ name: string; carriers: string[] }> {
  return inTransaction(db, async (tx) => {
    const row = await sealedIn(tx, archiveId);
    const why = await holdsBack(tx, row, now);
    if (why !== null) throw new Refused(`${why} Nothing was let go.`);
    if (typed.trim() !== row.folder)
      throw new Refused(
        `Type ${row.folder} to let it go: what is on its carriers may be the only copy. Nothing was let go.`,
      );
    const copies = await tx
      .select({ copyId: archiveCopies.id, carrier: carriers.name, folder: copyParts.folder, of: archiveParts.folder })
      .from(archiveCopies)
      .innerJoin(copyParts, eq(copyParts.copyId, archiveCopies.id))
      .innerJoin(archiveParts, eq(archiveParts.id, copyParts.partId))
      .innerJoin(carriers, eq(carriers.id, copyParts.carrierId))
      .where(and(eq(archiveCopies.archiveId, archiveId), inArray(archiveCopies.state, ['good', 'damaged'])));
    const ids = [...new Set(copies.map((copy) => copy.copyId))];
    await tx.update(archives).set({ state: 'let go' }).where(eq(archives.id, archiveId));
    if (row.night) await tx.update(archives).set({ baseId: row.baseId }).where(eq(archives.baseId, archiveId));
    if (ids.length > 0) {
      await tx.update(archiveCopies).set({ state: 'let go' }).where(inArray(archiveCopies.id, ids));
      await tx.update(copyParts).set({ state: 'let go' }).where(inArray(copyParts.copyId, ids));
    }
    const names = [...new Set(copies.map((copy) => copy.carrier))];
    const lies = copies.map(({ carrier, folder, of }) => ({ carrier, folder: folder ?? of }));
    const [{ files, bytes } = { files: 0, bytes: 0 }] = await tx
      .select({
        files: sql`COUNT(*)`.mapWith(Number),
        bytes: sql`COALESCE(SUM(${archiveFiles.payloadBytes}), 0)`.mapWith(Number),
      })
      .from(archiveFiles)
      .where(eq(archiveFiles.archiveId, archiveId));
    await writeReceipt(tx, {
      ...{ at: now, who, action: 'archive let go', projectId: row.projectId, files, bytes, held: 0 },
      title: `${row.folder} let go${names.length > 0 ? `; what lies on ${listed(names)} may be wiped` : ''}`.slice(
        0,
        500,
      ),
      ...{ facts: { archiveId: row.id, lies }, itemsSha256: itemsHash([]) },
    });
    return { name: row.name, carriers: names };
  });
}

export interface Decidable {
  archiveId: ArchiveId;
  name: string;
  folder: string;
  untilMs: number;
}

/** Archives whose time is over, and that nothing holds: somebody decides. */
export async function timeIsOver(db: Db, now: Date): Promise<Decidable[]> {
  const rows = await db
    .select()
    .from(archives)
    .where(
      and(
        ...[eq(archives.state, 'sealed'), eq(archives.purpose, 'archive'), eq(archives.keepRule, 'until')],
        ...[lte(archives.keepUntil, now), isNull(archives.holdReason)],
      ),
    )
    .orderBy(archives.keepUntil);
  return rows.map(({ id, name, folder, keepUntil }) => ({
    ...{ archiveId: id as ArchiveId, name, folder, untilMs: keepUntil!.getTime() },
  }));
}
