// Work as it goes, who does it, and that something changed, as server-sent events: a message whenever there is news. It is looked
// up once for all pages that are open, and only while one is.
import type { Route } from './+types/events';
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

async function look(): Promise<void> {
  const number = ++looks;
  isLooking = true;
  lookedAt = Date.now();
  try {
    const news = await newsNow();
    for (const one of listeners)
      if (one.from <= number && one.told !== news) {
        one.told = news;
        one.tell(news);
      }
  } catch {
    // The database did not answer: the next look settles it.
  }
  isLooking = false;
  if (listeners.size > 0) lookIn([...listeners].some(({ from }) => from > number) ? 0 : LOOK_EVERY_MS);
}

async function newsNow(): Promise<string> {
  const [jobs, pulse] = await Promise.all([jobRows(db()), pulseOf(db())]);
  // While somebody works, the last sign alone is no news.
  const lastSeenMs = pulse.workers > 0 ? null : pulse.lastSeenMs;
  return JSON.stringify({ jobs, pulse: { ...pulse, lastSeenMs } });
}

/** Tells all there is at once, and then what is new; gives what ends it. */
function listen(tell: Listener['tell']): () => void {
  const listener = { tell, told: '', from: looks + 1 };
  listeners.add(listener);
  if (!isLooking) lookIn(0);
  return () => void listeners.delete(listener);
}

export function loader({ request }: Route.LoaderArgs) {
  const text = new TextEncoder();
  let end = () => {};
  const stream = new ReadableStream({
    start(controller) {
      controller.enqueue(text.encode(': here\n\n'));
      end = listen((news) => controller.enqueue(text.encode(`data: ${news}\n\n`)));
      request.signal.addEventListener('abort', () => {
        end();
        try {
          controller.close();
        } catch {
          return;
        }
      });
    },
    cancel: () => end(),
  });
  return new Response(stream, {
    headers: {
      'Content-Type': 'text/event-stream',
      'Cache-Control': 'no-cache, no-transform',
      Connection: 'keep-alive',
    },
  });
}
