// The items of a step, as its receipt and its plan list them: a page at a time, by number.
import { and, asc, eq, gt, type SQL } from 'drizzle-orm';
import type { ItemState } from '#core/plan/plan.ts';
import type { Db } from '../db/connect.ts';
import { stepItems } from '../db/schema/plans.ts';
import { volumes } from '../db/schema/stores.ts';

export const itemsPage = (
  db: Db,
  stepId: number,
  { after, most, state, which }: { after: number; most: number; state?: ItemState; which?: SQL },
) => {
  const only: SQL | undefined = state === undefined ? undefined : eq(stepItems.state, state);
  return db
    .select({
      id: stepItems.id,
      volume: volumes.name,
      path: stepItems.path,
      sizeBytes: stepItems.sizeBytes,
      state: stepItems.state,
      reason: stepItems.reason,
      detail: stepItems.detail,
      targetPath: stepItems.targetPath,
      xxh64: stepItems.xxh64,
    })
    .from(stepItems)
    .leftJoin(volumes, eq(volumes.id, stepItems.volumeId))
    .where(and(eq(stepItems.stepId, stepId), gt(stepItems.id, after), only, which))
    .orderBy(asc(stepItems.id))
    .limit(most);
};

export type ItemRow = Awaited<ReturnType<typeof itemsPage>>[number];
