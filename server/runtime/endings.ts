// How work ends: what a thrown error means for the job, and the sentence that people read.
import { OutsideError } from '#disk/paths.ts';
import { isDatabaseAway } from '../db/connect.ts';
import { Cancelled, type JobContext } from './context.ts';
import { type Ending, LeaseLost, Waits } from './queue.ts';
import { Refused } from './refused.ts';

/**
 * The ending that an error gives a job. An error that ends no job is thrown on: the lease is gone, or the database is, or
 * people are asked; then what was begun is kept as it is, and whoever has the job next goes on with it.
 */
export function endingOf(context: JobContext, thrown: unknown): Ending {
  const error = context.reasonOf(thrown);
  if (error instanceof LeaseLost || error instanceof Waits || isDatabaseAway(error)) throw error;
  if (error instanceof Cancelled) return { state: 'cancelled' };
  if (error instanceof Refused || error instanceof OutsideError) return { state: 'failed', trouble: error.message };
  return { state: 'failed', trouble: unexpected(error) };
}

/** True for endings that nobody foresaw: the log gets the error itself. */
export const isUnexpected = (context: JobContext, thrown: unknown): boolean => {
  const error = context.reasonOf(thrown);
  return !(
    error instanceof LeaseLost ||
    error instanceof Waits ||
    error instanceof Cancelled ||
    error instanceof Refused ||
    error instanceof OutsideError ||
    isDatabaseAway(error)
  );
};

export const unexpected = (error: unknown): string =>
  `Something went wrong that was not expected (${(error as Error).message}). What had been done is in the ledger, file by file; what had not been done was left as it was. Try it again; if it happens again, the log of the worker says more.`;
