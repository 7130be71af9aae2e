// Pages that listen are told what is new, whatever becomes of one look, of one of them, of one stream, or of the clock.
import { BEAT, BEAT_EVERY_MS, listening } from './listening.ts';
import { News } from './news.ts';

const PACE = { everyMs: 20, atMostEveryMs: 5, givesUpMs: 60 };
const until = async (what: () => boolean) => {
  for (let i = 0; i < 400 && !what(); i++) await new Promise((resolve) => setTimeout(resolve, 5));
  expect(what()).toBe(true);
};

test('a look that never ends is given up, and whoever listens hears the next', async () => {
  let looks = 0;
  const news = new News(() => (++looks === 2 ? new Promise(() => undefined) : Promise.resolve(`look ${looks}`)), PACE);
  const heard: string[] = [];
  const end = news.listen((told) => heard.push(told));
  await until(() => heard.includes('look 1'));
  await until(() => heard.includes('look 4'));
  expect(heard).not.toContain('look 2');
  end();
});

test('a look that fails, and one who is gone without a word, keep nobody from being told', async () => {
  let looks = 0;
  const news = new News(() => (++looks === 2 ? Promise.reject(new Error('away')) : Promise.resolve(`${looks}`)), PACE);
  const heard: string[] = [];
  const ends = [
    news.listen(() => {
      throw new Error('gone');
    }),
    news.listen((told) => heard.push(told)),
  ];
  await until(() => heard.includes('3'));
  for (const end of ends) end();
  const last = looks;
  await new Promise((resolve) => setTimeout(resolve, 60));
  // Nobody listens: nothing is looked up.
  expect(looks).toBeLessThanOrEqual(last + 1);
});

test('a clock that is put back by an hour keeps nothing from being told', async () => {
  let looks = 0;
  const news = new News(() => Promise.resolve(`${++looks}`), PACE);
  const heard: string[] = [];
  const end = news.listen((told) => heard.push(told));
  await until(() => heard.length > 0);
  const real = Date.now();
  const clock = jest.spyOn(Date, 'now').mockReturnValue(real - 3_600_000);
  await until(() => heard.length > 3);
  clock.mockRestore();
  end();
});

/** A stream as a browser has it. */
class Stream extends EventTarget {
  readyState = 1;
  onmessage: ((event: MessageEvent<string>) => void) | null = null;
  onerror: (() => void) | null = null;
  close(): void {
    this.readyState = 2;
  }
}

test('a page opens its stream again that was refused, or that is silent, and not one that lives', () => {
  jest.useFakeTimers();
  const streams: Stream[] = [];
  const heard: string[] = [];
  const end = listening(
    '/events',
    (event) => heard.push(event.data),
    () => {
      streams.push(new Stream());
      return streams.at(-1) as unknown as EventSource;
    },
  );
  // Refused.
  streams[0]!.close();
  streams[0]!.onerror!();
  jest.advanceTimersByTime(1_100);
  expect(streams).toHaveLength(2);
  // It beats, for a minute.
  for (let i = 0; i < 12; i++) {
    jest.advanceTimersByTime(BEAT_EVERY_MS);
    streams[1]!.dispatchEvent(new Event(BEAT));
  }
  expect(streams).toHaveLength(2);
  streams[1]!.onmessage!({ data: 'news' } as MessageEvent<string>);
  expect(heard).toEqual(['news']);
  // And then is silent.
  jest.advanceTimersByTime(4 * BEAT_EVERY_MS);
  expect(streams).toHaveLength(3);
  expect(streams[1]!.readyState).toBe(2);
  // One that broke is the browser's to open again.
  streams[2]!.readyState = 0;
  streams[2]!.onerror!();
  jest.advanceTimersByTime(2_000);
  expect(streams).toHaveLength(3);
  end();
  jest.advanceTimersByTime(60_000);
  expect(streams).toHaveLength(3);
  jest.useRealTimers();
});
