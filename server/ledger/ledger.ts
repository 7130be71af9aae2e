// The ledger as people read it: pages of receipts, and the sums over all of them.
import { and, desc, eq, gte, lt, sql } from 'drizzle-orm';
import { z } from 'zod';
import { archiveProject } from '#core/steps/archive.ts';
import { allStepKinds } from '#core/steps/registry.ts';
import type { Database } from '../db/connect.ts';
import { hasPart } from '../db/conditions.ts';
import { projects } from '../db/schema/projects.ts';
import { receipts } from '../db/schema/receipts.ts';
import type { Receipt } from '../runtime/receipts.ts';

/** What of the ledger is asked for; empty or null for all. */
export interface ReceiptFilter {
  projectId: number | null;
  who: string;
  action: string;
  /** Parts of the title. */
  words: readonly string[];
  /** One day: from its beginning to the beginning of the next. */
  day: { from: Date; to: Date } | null;
}
export const EVERY_RECEIPT: ReceiptFilter = { projectId: null, who: '', action: '', words: [], day: null };

/** A page of receipts, newest first. `before` is the number after which to go on. */
export function pageOfReceipts(
  db: Database,
  before: number | null,
  { size = 100, of = EVERY_RECEIPT }: { size?: number; of?: ReceiptFilter } = {},
): Promise<Receipt[]> {
  const { projectId, who, action, words, day } = of;
  return db
    .select()
    .from(receipts)
    .where(
      and(
        before === null ? undefined : lt(receipts.id, before),
        projectId === null ? undefined : eq(receipts.projectId, projectId),
        who === '' ? undefined : eq(receipts.who, who),
        action === '' ? undefined : eq(receipts.action, action),
        ...words.map((word) => hasPart(receipts.title, word)),
        day === null ? undefined : and(gte(receipts.at, day.from), lt(receipts.at, day.to)),
      ),
    )
    .orderBy(desc(receipts.id))
    .limit(size);
}

export interface ReceiptChoices {
  projects: { projectId: number; name: string }[];
  people: string[];
  actions: string[];
}

/** What receipts can be looked through by: only what there is. */
export async function receiptChoices(db: Database): Promise<ReceiptChoices> {
  const [of, people, actions] = await Promise.all([
    db
      .select({ projectId: projects.id, name: projects.name })
      .from(projects)
      .where(sql`${projects.id} IN (SELECT DISTINCT r.project_id FROM receipts r)`)
      .orderBy(projects.name),
    db.selectDistinct({ who: receipts.who }).from(receipts).orderBy(receipts.who).limit(MOST_CHOICES),
    db.selectDistinct({ action: receipts.action }).from(receipts).orderBy(receipts.action).limit(MOST_CHOICES),
  ]);
  return { projects: of, people: people.map((row) => row.who), actions: actions.map((row) => row.action) };
}

const MOST_CHOICES = 200;

export async function receiptOf(db: Database, id: number): Promise<Receipt | null> {
  const [receipt] = await db.select().from(receipts).where(eq(receipts.id, id));
  return receipt ?? null;
}

const freed = allStepKinds()
  .filter((kind) => kind.does === 'frees')
  .map((kind) => kind.action);
const archived = [archiveProject.action];

/** Sums over the whole ledger. */
export async function ledgerSums(
  db: Database,
): Promise<{ receipts: number; removedBytes: number; archivedBytes: number }> {
  const [row] = await db
    .select({
      receipts: sql`COUNT(*)`.mapWith(Number),
      removedBytes: sql`COALESCE(SUM(IF(${receipts.action} IN ${freed}, ${receipts.bytes}, 0)), 0)`.mapWith(Number),
      archivedBytes: sql`COALESCE(SUM(IF(${receipts.action} IN ${archived}, ${receipts.bytes}, 0)), 0)`.mapWith(Number),
    })
    .from(receipts);
  return row!;
}

const stayedOut = z.array(z.object({ path: z.string(), why: z.string() }));
export type StayedOut = z.infer<typeof stayedOut>[number];

/** What was there and did not go in, as the receipt of a take-in names it; none of others. */
export const stayedOutOf = (facts: Record<string, unknown>): StayedOut[] =>
  stayedOut.safeParse(facts.stayedOut).data ?? [];
