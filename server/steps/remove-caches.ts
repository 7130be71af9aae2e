// Removing caches: files of the kind cache, in chosen folders, that were last changed before a day. What a document names
// is no cache, whatever it is called.
import { sql } from 'drizzle-orm';
import type { FolderId } from '#core/model.ts';
import { removeCaches as kind } from '#core/steps/remove-caches.ts';
import { type Database, inTransaction, type Transaction } from '../db/connect.ts';
import { NOT_NAMED } from '../db/naming.ts';
import type { steps } from '../db/schema/plans.ts';
import { Refused } from '../runtime/refused.ts';
import { finishItems, type ItemWork, runItems } from '../runtime/run-items.ts';
import type { JobContext } from '../runtime/context.ts';
import { type Added, addFileStepIn, FILE_FACTS, notInAPlan } from './adding.ts';
import { readDocumentsBefore, storesOfDocuments, unreadFindings } from './documents-before.ts';
import { commonFindings, inWork } from './findings.ts';
import { serverStep } from './kind.ts';
import { recomputeAfterRemoval, removal, volumesOfItems } from './remove.ts';
import { lastLookForKind } from './remove-files.ts';

/** Adds the removal of caches of these folders that were last changed before the day of the cut. */
export const addCacheRemoval = (db: Database, asked: NewCacheRemoval): Promise<Added> =>
  inTransaction(db, (tx) => addCacheRemovalIn(tx, asked));

export interface NewCacheRemoval {
  folderIds: readonly FolderId[];
  cutDay: number;
  now: Date;
}

/** The same inside a transaction. */
export async function addCacheRemovalIn(tx: Transaction, { folderIds, cutDay, now }: NewCacheRemoval): Promise<Added> {
  if (folderIds.length === 0) throw new Refused('No folder is chosen, so nothing was added. Choose at least one.');
  return addFileStepIn(tx, { kind, params: { cutDay }, names: {}, now }, async (_tx, stepId) => {
    for (let i = 0; i < folderIds.length; i += 1000)
      await tx.execute(sql`
        INSERT INTO step_items (${FILE_FACTS.columns})
        SELECT ${stepId}, ${FILE_FACTS.values}
        FROM files f JOIN folders d ON d.id = f.folder_id JOIN volumes v ON v.id = f.volume_id
        WHERE f.folder_id IN ${[...folderIds.slice(i, i + 1000)]} AND f.kind = 'cache' AND f.gone_at IS NULL AND f.modified_us < ${cutDay * 86_400_000_000}
          AND ${NOT_NAMED} AND ${notInAPlan}`);
    return 'Nothing there is old enough, or it is in a plan already. Nothing was added.';
  });
}

const workOf = (context: JobContext, step: typeof steps.$inferSelect): ItemWork => ({
  kind,
  projectId: null,
  prepare: () => readDocumentsBefore(context, step.id),
  lastLook: (items) => lastLookForKind(context.db, 'cache', items),
  ...removal(context),
  lastWords: async (tx) => {
    await recomputeAfterRemoval(tx, step.id);
    return {};
  },
});

export const removeCaches = serverStep({
  kind,
  findings: async (db, step) => [
    ...(await commonFindings(db, step)),
    ...(await inWork(db, step)),
    ...(await unreadFindings(db, step)),
  ],
  stores: async (tx, step) => [...(await storesOfDocuments(tx, step.id)), ...(await volumesOfItems(tx, step.id))],
  run: (context, step) => runItems(context, step, workOf(context, step)),
  giveUp: (context, step) =>
    finishItems(context, step, { work: workOf(context, step), ending: { state: 'failed', trouble: context.givenUp } }),
});
