// What is new, looked up once for all pages that are open, and only while one is.
import { pulseOf } from '#server/site/pulse.ts';
import { jobRows } from '#server/site/work.ts';
import { db } from '../db.server';

const LOOK_EVERY_MS = 600;
/** Many pages that open at once are told by one look. */
const LOOK_AT_MOST_EVERY_MS = 100;

interface Listener {
  tell: (news: string) => void;
  /** What it was told last. */
  told: string;
  /** Only looks from this one on: an earlier one may know less than its page. */
  from: number;
}

const listeners = new Set<Listener>();
let looks = 0;
let lookedAt = 0;
let isLooking = false;
let timer: NodeJS.Timeout | undefined;

function lookIn(ms: number): void {
  clearTimeout(timer);
  timer = setTimeout(() => void look(), Math.max(ms, lookedAt + LOOK_AT_MOST_EVERY_MS - Date.now()));
}

/** One that is gone without a word keeps nobody else from being told. */
function tellOne(one: Listener, news: string): void {
  try {
    one.tell(news);
    one.told = news;
  } catch {
    listeners.delete(one);
  }
}

async function look(): Promise<void> {
  const number = ++looks;
  isLooking = true;
  lookedAt = Date.now();
  try {
    const news = await newsNow();
    for (const one of listeners) if (one.from <= number && one.told !== news) tellOne(one, news);
  } catch {
    // The database did not answer: the next look settles it.
  }
  isLooking = false;
  if (listeners.size > 0) lookIn([...listeners].some(({ from }) => from > number) ? 0 : LOOK_EVERY_MS);
}

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

/** Tells all there is at once, and then what is new; gives what ends it. */
export function listen(tell: Listener['tell']): () => void {
  const listener = { tell, told: '', from: looks + 1 };
  listeners.add(listener);
  if (!isLooking) lookIn(0);
  return () => void listeners.delete(listener);
}
