// How far one piece of work is, in words and as a bar: the tray and the work sheet show both.
import { counted, duration, rate, size } from '#core/wording/amounts.ts';
import type { JobRow } from '#server/site/work.ts';
import { Progress } from '../ui/progress';

/** Bytes, rate and time left of one job, in words. */
export function progressWords(job: JobRow): string {
  if (job.state === 'queued') return 'waiting';
  if (job.cancelAsked) return 'ending early';
  const amount = job.unit === 'files' ? `${counted(job.done, 'file')}` : `${size(job.done)} of ${size(job.total)}`;
  if (job.rate <= 0) return amount;
  const left = job.total > job.done ? ` · ${duration((job.total - job.done) / job.rate)} left` : '';
  return job.unit === 'files' ? `${amount}${left}` : `${amount} · ${rate(job.rate)}${left}`;
}

export const ProgressBar = ({ job }: { job: JobRow }) => (
  <Progress share={job.total > 0 ? Math.min(1, job.done / job.total) : 0} label={job.title} />
);
