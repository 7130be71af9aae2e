// Gives known files the kinds that the site's rules say, batch by batch with their rollups. Run again after it was
// killed it finds only what is left to change; a reading with the new rules comes to the same.
import { sql } from 'drizzle-orm';
import { z } from 'zod';
import { withConnection } from '../db/connect.ts';
import { inSlices, lockFolders, refreshHoldings } from '../db/holdings.ts';
import { volumeSums } from '../db/schema/sums.ts';
import { wrongKinds } from './kinds.ts';
import { recomputeProjectSums } from './project-sums.ts';
import type { JobContext } from '../runtime/context.ts';
import { workKind } from '../runtime/work-kind.ts';
import { endJob } from '../runtime/queue.ts';

async function applyKinds(context: JobContext): Promise<void> {
  const { db, job } = context;
  const [all] = await db.select({ n: sql`COALESCE(SUM(${volumeSums.files}), 0)`.mapWith(Number) }).from(volumeSums);
  context.phase('naming kinds', 'files', all!.n);
  for await (const { looked, changes } of wrongKinds(db)) {
    context.check();
    if (changes.length > 0)
      await withConnection(db, async (connection) => {
        await lockFolders(
          connection,
          changes.map((change) => change.folderId),
        );
        for (const kind of new Set(changes.map((change) => change.kind)))
          for (const some of inSlices(changes.filter((change) => change.kind === kind)))
            await connection.query('UPDATE files SET kind = ? WHERE id IN (?)', [
              kind,
              some.map((change) => change.id),
            ]);
        await refreshHoldings(
          connection,
          changes.map((change) => change.folderId),
        );
      });
    context.add(looked);
  }
  await recomputeProjectSums(db);
  await context.transaction((tx) => endJob(tx, job, { state: 'done' }));
}

export const applyKindsWork = workKind({
  kind: 'apply kinds',
  params: z.object({}),
  run: (context) => applyKinds(context),
});
