// What a kind of work is that is no step of a plan: reading, looking, tidying. One constant beside what it does, one line
// in server/work-kinds.ts. A job's parameters are parsed when they are read back.
import type { z } from 'zod';
import type { JobContext } from './context.ts';
import { endJob, type Ending } from './queue.ts';
import { endingOf } from './endings.ts';

export interface WorkKind<Params extends object = object> {
  readonly kind: string;
  readonly params: z.ZodType<Params>;
  /** Does it and ends the job, in the transaction that writes down what follows. */
  run(context: JobContext, params: Params): Promise<void>;
  /** What a job that ended its workers too often leaves behind is put in order; the job is ended by whoever calls. */
  giveUp?(context: JobContext, params: Params): Promise<void>;
}

/** Only says that the parts of a kind fit together. */
export const workKind = <Params extends object>(kind: WorkKind<Params>): WorkKind<Params> => kind;

/** Ends a job of which there is nothing to write down but that it ended. */
export const endPlainly = (context: JobContext, ending: Ending = { state: 'done' }): Promise<void> =>
  context.transaction((tx) => endJob(tx, context.job, ending));

/** Ends a job that threw, unless its lease or the database is gone. */
export async function endAfter(context: JobContext, thrown: unknown): Promise<Ending> {
  const ending = endingOf(context, thrown);
  await endPlainly(context, ending);
  return ending;
}
