// Removing for good what can be made again: only while it still is what it was chosen as, and no document names it.
import { inArray, type SQL, sql } from 'drizzle-orm';
import type { z } from 'zod';
import { removeFiles as kind } from '#core/steps/remove-files.ts';
import type { Held } from '#disk/remove.ts';
import { type Database, type Db, inTransaction, type Transaction } from '../db/connect.ts';
import { NOT_NAMED, usersOf } from '../db/naming.ts';
import { files } from '../db/schema/catalogue.ts';
import type { JobContext } from '../runtime/context.ts';
import { finishItems, type Item, type ItemWork, runItems, type Step } from '../runtime/run-items.ts';
import { type Added, addFileStepIn, FILE_FACTS, notInAPlan } from './adding.ts';
import { readDocumentsBefore, storesOfDocuments, unreadDocuments, unreadFindings } from './documents-before.ts';
import { commonFindings, inWork } from './findings.ts';
import { serverStep } from './kind.ts';
import { recomputeAfterRemoval, removal, volumesOfItems } from './remove.ts';

type Params = z.infer<typeof kind.params>;

/** Adds the removal of files of one kind. `chosen` is a condition on files f, folders d, volumes v. */
export const addFileRemoval = (db: Database, asked: NewFileRemoval): Promise<Added> =>
  inTransaction(db, (tx) => addFileRemovalIn(tx, asked));

export interface NewFileRemoval {
  params: Params;
  chosen: SQL;
  now: Date;
}

/** The same inside a transaction. */
export function addFileRemovalIn(tx: Transaction, { params, chosen, now }: NewFileRemoval): Promise<Added> {
  return addFileStepIn(tx, { kind, params, names: {}, now }, async (_tx, stepId) => {
    await tx.execute(sql`
      INSERT INTO step_items (${FILE_FACTS.columns})
      SELECT ${stepId}, ${FILE_FACTS.values}
      FROM files f JOIN folders d ON d.id = f.folder_id JOIN volumes v ON v.id = f.volume_id AND v.retired_at IS NULL
      WHERE f.gone_at IS NULL AND f.kind = ${params.fileKind} AND (${chosen}) AND ${NOT_NAMED} AND ${notInAPlan}`);
    return 'None of them can go: a document names them, or they are gone, or in a plan already. Nothing was added.';
  });
}

/** Held where a document names it by now, where it is of another kind by now, or where nobody knows. */
export async function lastLookForKind(db: Db, fileKind: string, items: readonly Item[]): Promise<Map<number, Held>> {
  const held = new Map<number, Held>();
  const ids = items.map((item) => item.fileId);
  if (ids.length === 0) return held;
  const named = new Set((await usersOf(db, ids)).map((user) => user.fileId));
  const rows = await db
    .select({ id: files.id, projectId: files.projectId, kind: files.kind })
    .from(files)
    .where(inArray(files.id, ids));
  const unread = await unreadDocuments(
    db,
    rows.map((row) => row.projectId),
  );
  const doubtful = new Map(unread.map((document) => [document.projectId, document.name]));
  const now = new Map(rows.map((row) => [row.id, row]));
  for (const item of items) {
    const file = now.get(item.fileId);
    if (named.has(item.fileId) || file?.kind !== fileKind) held.set(item.id, { done: false, reason: 'in use' });
    else if (file.projectId !== null && doubtful.has(file.projectId))
      held.set(item.id, { done: false, reason: 'in doubt', detail: doubtful.get(file.projectId) });
  }
  return held;
}

const workOf = (context: JobContext, step: Step, params: Params): ItemWork => ({
  kind,
  projectId: null,
  prepare: () => readDocumentsBefore(context, step.id),
  lastLook: (items) => lastLookForKind(context.db, params.fileKind, items),
  ...removal(context),
  lastWords: async (tx) => {
    await recomputeAfterRemoval(tx, step.id);
    return {};
  },
});

export const removeFiles = serverStep({
  kind,
  findings: async (db, step) => [
    ...(await commonFindings(db, step)),
    ...(await inWork(db, step)),
    ...(await unreadFindings(db, step)),
  ],
  stores: async (tx, step) => [...(await storesOfDocuments(tx, step.id)), ...(await volumesOfItems(tx, step.id))],
  run: (context, step, params) => runItems(context, step, workOf(context, step, params)),
  giveUp: (context, step, params) =>
    finishItems(context, step, {
      work: workOf(context, step, params),
      ending: { state: 'failed', trouble: context.givenUp },
    }),
});
