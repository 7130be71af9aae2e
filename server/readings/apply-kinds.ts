// Gives known files the kinds that the site's rules say, batch by batch with their rollups. Run again after it was
// killed it finds only what is left to change; a reading with the new rules comes to the same.
import { sql } from 'drizzle-orm';
import { withConnection } from '../db/connect.ts';
import { inSlices, refreshHoldings } from '../db/holdings.ts';
import { volumeSums } from '../db/schema/sums.ts';
import { wrongKinds } from './kinds.ts';
import { settleProjects } from './project-sums.ts';
import type { JobContext } from '../runtime/context.ts';
import { endJob } from '../runtime/queue.ts';

export async function runApplyKinds(context: JobContext): Promise<void> {
  const { db, job } = context;
  const [all] = await db.select({ n: sql`COALESCE(SUM(${volumeSums.files}), 0)`.mapWith(Number) }).from(volumeSums);
  context.phase('naming kinds', 'files', all!.n);
  for await (const { looked, changes } of wrongKinds(db)) {
    context.check();
    if (changes.length > 0)
      await withConnection(db, async (connection) => {
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
  await settleProjects(db);
  await context.checkLease();
  await db.transaction((tx) => endJob(tx, job, { state: 'done' }));
}
