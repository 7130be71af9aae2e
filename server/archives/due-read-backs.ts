// Copies that the house wants read back by now: at night those whose carriers are in reach, the longest unread first; others, and
// what has to thaw or costs something, are asked for on the site's page.
import { and, eq, inArray, sql } from 'drizzle-orm';
import { grouped } from '#core/grouped.ts';
import type { ArchiveId } from '#core/model.ts';
import { isKeptCold } from '../carriers/kinds.ts';
import type { Database, Db } from '../db/connect.ts';
import { archiveCopies, archives, copyParts } from '../db/schema/archives.ts';
import { jobs } from '../db/schema/jobs.ts';
import { carriers } from '../db/schema/stores.ts';
import { shelfRule } from '../site/house-rules.ts';
import { askToReadBack, readBackWork } from './read-back.ts';

export interface DueReadBack {
  copyId: number;
  archiveId: ArchiveId;
  archive: string;
  /** The first of its carriers that is not in reach, else its first. */
  carrier: string;
  place: string;
  isThere: boolean;
  /** It has to thaw or costs something: read when somebody asks, never by itself. */
  isCold: boolean;
  readBackMs: number | null;
}

const MONTH_MS = (365.25 / 12) * 86_400_000;
/** Begun in one night: a night is for many things. */
export const MOST_A_NIGHT = 8;

/** The longest unread first. None where the house wants none. */
export async function dueReadBacks(db: Db, now: Date): Promise<DueReadBack[]> {
  const { readBackMonths } = await shelfRule(db);
  if (readBackMonths === 0) return [];
  const before = new Date(now.getTime() - readBackMonths * MONTH_MS);
  const rows = await db
    .select({ copy: archiveCopies, archive: archives.name, carrier: carriers })
    .from(archiveCopies)
    .innerJoin(archives, and(eq(archives.id, archiveCopies.archiveId), eq(archives.state, 'sealed')))
    .innerJoin(copyParts, eq(copyParts.copyId, archiveCopies.id))
    .innerJoin(carriers, eq(carriers.id, copyParts.carrierId))
    .where(and(eq(archiveCopies.state, 'good'), sql`COALESCE(${archiveCopies.readBackAt}, 0) < ${before}`))
    .orderBy(archiveCopies.readBackAt, archiveCopies.id, copyParts.id);
  return [...grouped(rows, ({ copy }) => copy.id).values()].map((parts) => {
    const { copy, archive } = parts[0]!;
    const away = parts.find(({ carrier }) => carrier.state !== 'reachable');
    const { name, place } = (away ?? parts[0]!).carrier;
    return {
      ...{ copyId: copy.id, archiveId: copy.archiveId as ArchiveId, archive, carrier: name, place },
      ...{ isThere: away === undefined, isCold: parts.some(({ carrier }) => isKeptCold(carrier)) },
      ...{ readBackMs: copy.readBackAt?.getTime() ?? null },
    };
  });
}

/** Begins those of a night. Gives how many. */
export async function readBackDue(db: Database, by: { who: string; now: Date }): Promise<number> {
  const due = (await dueReadBacks(db, by.now)).filter((one) => one.isThere && !one.isCold);
  if (due.length === 0) return 0;
  const open = await db
    .select({ params: jobs.params })
    .from(jobs)
    .where(and(eq(jobs.kind, readBackWork.kind), inArray(jobs.state, ['queued', 'running'])));
  const asked = new Set(open.map((job) => Number(job.params.copyId)));
  const begun = due.filter((one) => !asked.has(one.copyId)).slice(0, Math.max(0, MOST_A_NIGHT - asked.size));
  for (const { copyId } of begun) await askToReadBack(db, copyId, by);
  return begun.length;
}
