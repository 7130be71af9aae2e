// Work as it goes, who does it, and that something changed, as server-sent events: a message whenever there is news.
import type { Route } from './+types/events';
import { pulseOf } from '#server/site/pulse.ts';
import { jobRows } from '#server/site/work.ts';
import { db } from '../db.server';

const LOOK_EVERY_MS = 600;
export function loader({ request }: Route.LoaderArgs) {
  const text = new TextEncoder();
  let timer: NodeJS.Timeout | undefined;
  const stream = new ReadableStream({
    start(controller) {
      controller.enqueue(text.encode(': here\n\n'));
      let before = '';
      const look = async () => {
        try {
          const [jobs, pulse] = await Promise.all([jobRows(db()), pulseOf(db())]);
          // While somebody works, the last sign alone is no news.
          const lastSeenMs = pulse.workers > 0 ? null : pulse.lastSeenMs;
          const now = JSON.stringify({ jobs, pulse: { ...pulse, lastSeenMs } });
          if (now !== before) controller.enqueue(text.encode(`data: ${now}\n\n`));
          before = now;
        } catch {
          // The database did not answer, or the reader left: the next look or the abort settles it.
        }
        if (!request.signal.aborted) timer = setTimeout(() => void look(), LOOK_EVERY_MS);
      };
      void look();
      request.signal.addEventListener('abort', () => {
        clearTimeout(timer);
        try {
          controller.close();
        } catch {
          return;
        }
      });
    },
    cancel: () => clearTimeout(timer),
  });
  return new Response(stream, {
    headers: {
      'Content-Type': 'text/event-stream',
      'Cache-Control': 'no-cache, no-transform',
      Connection: 'keep-alive',
    },
  });
}
