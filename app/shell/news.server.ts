// What all open pages are told: work as it goes, who does it, and that something changed.
import { pulseOf } from '#server/site/pulse.ts';
import { jobRows } from '#server/site/work.ts';
import { db } from '../db.server';
import { News } from './news';

let changed: () => void = () => undefined;
let before = '';

/** Has somebody told, before the pages are, that anything is other than it was: more than how far work is. */
export function onNews(tell: () => void): void {
  changed = tell;
}

async function newsNow(): Promise<string> {
  const [jobs, pulse] = await Promise.all([jobRows(db()), pulseOf(db())]);
  const now = JSON.stringify([
    ...[pulse.mark, pulse.workers],
    jobs.map((job) => [job.jobId, job.state, job.question, job.waitsFor, job.cancelAsked, job.isPutOff]),
  ]);
  if (now !== before) changed();
  before = now;
  // While somebody works, the last sign alone is no news.
  const lastSeenMs = pulse.workers > 0 ? null : pulse.lastSeenMs;
  return JSON.stringify({ jobs, pulse: { ...pulse, lastSeenMs } });
}

export const news = new News(newsNow);
