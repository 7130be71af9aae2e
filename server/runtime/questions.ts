// What work asks of people: it lets go of everything that it holds, keeps what it has done, and goes on with the next worker
// that finds an answer.
import { and, desc, eq, inArray, isNull } from 'drizzle-orm';
import { canBeTriedAgain, HELD_REASONS, type HeldReason } from '#core/plan/plan.ts';
import { type Database, type Db, inTransaction } from '../db/connect.ts';
import { type ANSWERS, jobQuestions, jobs } from '../db/schema/jobs.ts';
import type { JobContext } from './context.ts';
import { Waits } from './queue.ts';
import { Refused } from './refused.ts';

export type Answered = (typeof ANSWERS)[number];

export interface Question {
  questionId: number;
  jobId: number;
  path: string;
  sizeBytes: number;
  reason: HeldReason;
}

/** Asks about a file, once, and ends this run of the work: throws Waits. */
export async function ask(
  context: JobContext,
  file: { fileId: number; path: string; sizeBytes: number; reason: HeldReason },
): Promise<never> {
  const { id: jobId } = context.job;
  await context.transaction(async (tx) => {
    const [asked] = await tx
      .select({ id: jobQuestions.id })
      .from(jobQuestions)
      .where(and(eq(jobQuestions.jobId, jobId), eq(jobQuestions.fileId, file.fileId), isNull(jobQuestions.answer)));
    if (!asked) await tx.insert(jobQuestions).values({ jobId, ...file, askedAt: context.now() });
  });
  throw new Waits(`It is asked what is to become of ${file.path}.`);
}

/** Whether somebody said that the work goes on without a file. */
export async function isLeftOut({ db, job }: JobContext, fileId: number): Promise<boolean> {
  const [last] = await db
    .select({ answer: jobQuestions.answer })
    .from(jobQuestions)
    .where(and(eq(jobQuestions.jobId, job.id), eq(jobQuestions.fileId, fileId)))
    .orderBy(desc(jobQuestions.id))
    .limit(1);
  return last?.answer === 'leave out';
}

/** What these jobs ask now, the oldest question of each. */
export async function openQuestions(db: Db, jobIds: readonly number[]): Promise<Map<number, Question>> {
  if (jobIds.length === 0) return new Map();
  const rows = await db
    .select()
    .from(jobQuestions)
    .where(and(inArray(jobQuestions.jobId, [...jobIds]), isNull(jobQuestions.answer)))
    .orderBy(desc(jobQuestions.id));
  return new Map(
    rows.map(({ id, jobId, path, sizeBytes, reason }) => [jobId, { questionId: id, jobId, path, sizeBytes, reason }]),
  );
}

/** Answers what work asks. Throws Refused where it no longer asks, or trying again can change nothing. */
export async function answerQuestion(
  db: Database,
  { questionId, answer, who, now }: { questionId: number; answer: Answered; who: string; now: Date },
): Promise<void> {
  return inTransaction(db, async (tx) => {
    const [row] = await tx
      .select({ question: jobQuestions, state: jobs.state })
      .from(jobQuestions)
      .innerJoin(jobs, eq(jobs.id, jobQuestions.jobId))
      .where(eq(jobQuestions.id, questionId))
      .for('update');
    if (!row || row.question.answer !== null || (row.state !== 'queued' && row.state !== 'running'))
      throw new Refused('That was answered already, or the work has ended. Nothing was changed.');
    if (answer === 'try again' && !canBeTriedAgain(row.question.reason))
      throw new Refused(
        'The file changed since it was chosen, so that trying again says the same. Leave it out, or cancel the work and add it to the plan anew. Nothing was changed.',
      );
    // Trying again means all that it asks: a folder that was away is back with all its files.
    const meant =
      answer === 'try again'
        ? and(
            eq(jobQuestions.jobId, row.question.jobId),
            isNull(jobQuestions.answer),
            inArray(jobQuestions.reason, HELD_REASONS.filter(canBeTriedAgain)),
          )
        : eq(jobQuestions.id, questionId);
    await tx.update(jobQuestions).set({ answer, who, answeredAt: now }).where(meant);
  });
}
