// Work as it goes, as server-sent events: a message whenever something about it changed.
import type { Route } from './+types/events';
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
          const now = JSON.stringify(await jobRows(db()));
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
