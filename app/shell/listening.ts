// How a page hears the stream of events, for as long as it is open.

/** The event by which a page knows that its stream lives; it says nothing. */
export const BEAT = 'beat';
export const BEAT_EVERY_MS = 5_000;
/** Three beats that did not come. */
const SILENT_MS = 3 * BEAT_EVERY_MS + 1_000;
const LISTENS_AGAIN_MS = 1_000;

/**
 * Hears a stream of events until what it gives is called. A browser comes back by itself to one that broke, but not to one that was
 * refused, as it is while the database does not answer, nor to one that is silent because the way to it is gone: a machine that
 * slept, a network that was changed.
 */
export function listening(
  address: string,
  hear: (event: MessageEvent<string>) => void,
  opened: (address: string) => EventSource = (at) => new EventSource(at),
): () => void {
  let stream: EventSource;
  let again: ReturnType<typeof setTimeout>;
  let silent: ReturnType<typeof setTimeout>;
  const anewIn = (ms: number) => {
    clearTimeout(silent);
    stream.close();
    again = setTimeout(open, ms);
  };
  const alive = () => {
    clearTimeout(silent);
    silent = setTimeout(() => anewIn(0), SILENT_MS);
  };
  const open = () => {
    stream = opened(address);
    stream.onmessage = (event: MessageEvent<string>) => {
      alive();
      hear(event);
    };
    stream.addEventListener(BEAT, alive);
    stream.onerror = () => {
      if (stream.readyState === CLOSED) anewIn(LISTENS_AGAIN_MS);
    };
    alive();
  };
  open();
  return () => {
    clearTimeout(again);
    clearTimeout(silent);
    stream.close();
  };
}

/** As the standard has it (HTML, server-sent events). */
const CLOSED = 2;
