// Work as it goes, who does it, and that something changed, as server-sent events: a message whenever there is news.
import type { Route } from './+types/events';
import { listen } from './news.server';

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
