// How far one piece of work is, in words and as a bar: the tray and the work sheet show both.
import { Progress } from 'radix-ui';
import { counted, duration, rate, size } from '#core/wording/amounts.ts';
import type { JobRow } from '#server/site/work.ts';

/** Bytes, rate and time left of one job, in words. */
export function progressWords(job: JobRow): string {
  if (job.state === 'queued') return 'waiting';
  if (job.cancelAsked) return 'ending early';
  const amount = job.unit === 'files' ? `${counted(job.done, 'file')}` : `${size(job.done)} of ${size(job.total)}`;
  if (job.rate <= 0) return amount;
  const left = job.total > job.done ? ` · ${duration((job.total - job.done) / job.rate)} left` : '';
  return job.unit === 'files' ? `${amount}${left}` : `${amount} · ${rate(job.rate)}${left}`;
}

export function ProgressBar({ job }: { job: JobRow }) {
  const share = job.total > 0 ? Math.min(1, job.done / job.total) : 0;
  return (
    <Progress.Root
      value={Math.round(share * 100)}
      aria-label={job.title}
      className="h-1.5 w-36 shrink-0 overflow-hidden rounded-full bg-free"
    >
      <Progress.Indicator className="h-full bg-ok" style={{ width: `${share * 100}%` }} />
    </Progress.Root>
  );
}
