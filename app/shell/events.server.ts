// Work as it goes, who does it, and that something changed, as server-sent events: a message whenever there is news, and a beat
// by which a page knows that it would hear of them.
import type { Route } from './+types/events';
import { BEAT, BEAT_EVERY_MS } from './listening';
import { news } from './news.server';

export function loader({ request }: Route.LoaderArgs) {
  const text = new TextEncoder();
  let end = () => {};
  const stream = new ReadableStream({
    start(controller) {
      const tell = (event: string) => controller.enqueue(text.encode(`${event}\n\n`));
      tell(': here');
      const beating = setInterval(() => tell(`event: ${BEAT}\ndata: `), BEAT_EVERY_MS);
      const unheard = news.listen((now) => tell(`data: ${now}`));
      end = () => {
        clearInterval(beating);
        unheard();
      };
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
