// Waiting for a piece of work that somebody asked for and wants the answer of: the web process for what only a worker may
// do, the command for its own.
import { eq } from 'drizzle-orm';
import type { JobId } from '#core/model.ts';
import { HELD_WORDS } from '#core/plan/plan.ts';
import type { Db } from '../db/connect.ts';
import { jobs } from '../db/schema/jobs.ts';
import { openQuestions } from './questions.ts';
import { Refused } from './refused.ts';

const LOOK_EVERY_MS = 60;

/**
 * Resolves when the work is done. Throws Refused with its own sentence where it failed, and with one of ours where it asks
 * something, or nobody has done it in time: then it is still asked for.
 */
export async function awaitJob(db: Db, jobId: JobId, seconds = 20): Promise<void> {
  const end = Date.now() + seconds * 1000;
  for (;;) {
    const [job] = await db.select({ state: jobs.state, trouble: jobs.trouble }).from(jobs).where(eq(jobs.id, jobId));
    if (!job) throw new Refused('That work is not known any more.');
    if (job.state === 'done') return;
    if (job.state === 'failed') throw new Refused(job.trouble ?? 'It did not work.');
    if (job.state === 'cancelled') throw new Refused('It was cancelled. Nothing was changed.');
    const asked = job.state === 'queued' ? (await openQuestions(db, [jobId])).get(jobId) : undefined;
    if (asked)
      throw new Refused(
        `It waits for an answer: ${asked.path} cannot go in, since ${HELD_WORDS[asked.reason]}. What is written so far is kept. Answer it under Work, or by "keramion work".`,
      );
    if (Date.now() > end)
      throw new Refused(
        'No worker has answered yet. It is done as soon as one does; the tray shows it. Look whether a worker is running.',
      );
    await new Promise((resolve) => setTimeout(resolve, LOOK_EVERY_MS));
  }
}
