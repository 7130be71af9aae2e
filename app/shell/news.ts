// What is new, looked up once for all pages that are open, and only while one is. A look that never ends, and a clock that is put
// back, keep nobody from hearing the next.

interface Listener {
  tell: (news: string) => void;
  /** What it was told last. */
  told: string;
  /** Only looks from this one on: an earlier one may know less than its page. */
  from: number;
}

interface Pace {
  everyMs: number;
  /** Many pages that open at once are told by one look. */
  atMostEveryMs: number;
  /** A look that takes longer is given up, and the next begins. */
  givesUpMs: number;
}

const PACE: Pace = { everyMs: 600, atMostEveryMs: 100, givesUpMs: 10_000 };

export class News {
  private readonly listeners = new Set<Listener>();
  private looks = 0;
  private lookedAt = -Infinity;
  private isLooking = false;
  private timer: NodeJS.Timeout | undefined;

  /** @param ask gives all there is, as one text */
  constructor(
    private readonly ask: () => Promise<string>,
    private readonly pace = PACE,
  ) {}

  /** Tells all there is at once, and then what is new; gives what ends it. */
  listen(tell: Listener['tell']): () => void {
    const listener = { tell, told: '', from: this.looks + 1 };
    this.listeners.add(listener);
    if (!this.isLooking) this.lookIn(0);
    return () => {
      this.listeners.delete(listener);
      if (this.listeners.size === 0) clearTimeout(this.timer);
    };
  }

  private lookIn(ms: number): void {
    clearTimeout(this.timer);
    const sinceMs = performance.now() - this.lookedAt;
    this.timer = setTimeout(() => void this.look(), Math.max(ms, this.pace.atMostEveryMs - sinceMs));
  }

  private async look(): Promise<void> {
    const number = ++this.looks;
    this.isLooking = true;
    this.lookedAt = performance.now();
    try {
      const news = await within(this.ask(), this.pace.givesUpMs);
      for (const one of this.listeners) if (one.from <= number && one.told !== news) this.tellOne(one, news);
    } catch {
      // The database did not answer: the next look settles it.
    }
    this.isLooking = false;
    if (this.listeners.size === 0) return;
    this.lookIn([...this.listeners].some(({ from }) => from > number) ? 0 : this.pace.everyMs);
  }

  /** One that is gone without a word keeps nobody else from being told. */
  private tellOne(one: Listener, news: string): void {
    try {
      one.tell(news);
      one.told = news;
    } catch {
      this.listeners.delete(one);
    }
  }
}

async function within<Value>(asked: Promise<Value>, ms: number): Promise<Value> {
  let timer: NodeJS.Timeout | undefined;
  const late = new Promise<never>((_, reject) => {
    timer = setTimeout(() => reject(new Error('The look took too long.')), ms);
  });
  try {
    return await Promise.race([asked, late]);
  } finally {
    clearTimeout(timer);
  }
}
