// Pages that were just made, for whoever asks for the same: fifty people who look at ten pages do not have fifty made every other
// second. Kept for so short that nobody reads what is old, and not at all once anything changed.
import { randomUUID } from 'node:crypto';
import type { NextFunction, Request, Response } from 'express';

/** As long as what others did may take to show. */
const HOLDS_MS = 2_000;
/** So much longer it is given to whoever asks while it is made anew: nobody waits for a page that many look at. */
const GIVEN_MS = 2 * HOLDS_MS;
const AGAIN = 'x-keramion-again';
const MOST_BYTES = 4e6;
/** Of all together: whoever asks for many pages takes no more memory than that. */
const MOST_KEPT_BYTES = 64e6;
/** Pages, and what a page asks for when it goes to another. */
const KEPT_TYPES = /^text\/(html|x-script)/;

interface Answer {
  madeAt: number;
  headers: [string, string][];
  body: string;
  /** The word that its scripts carry. */
  nonce: string;
  isAskedAnew?: boolean;
}

export class KeptAnswers {
  private readonly kept = new Map<string, Answer>();
  private readonly making = new Map<string, Promise<Answer | null>>();
  private changes = 0;

  /** Only this process asks for a page to be made anew. */
  private readonly word = randomUUID();

  /** @param ask asks this same server for the same page, with these headers besides; its answer is for nobody */
  constructor(
    private readonly ask: (request: Request, headers: Record<string, string>) => void,
    private readonly now: () => number = Date.now,
  ) {}

  /** Something changed: what was made before, and what is being made, is for nobody else. */
  forget = (): void => {
    this.changes++;
    this.kept.clear();
    this.making.clear();
  };

  /** Answers from what is kept, or has the page made and keeps it. Whatever is not only looked at makes all of it old. */
  handle = (request: Request, response: Response, next: NextFunction): void => {
    if (request.method !== 'GET') {
      if (request.method !== 'HEAD') response.once('close', this.forget);
      return next();
    }
    const key = `${request.originalUrl}\n${request.headers.cookie ?? ''}\n${request.headers.accept ?? ''}`;
    if (request.headers[AGAIN] === this.word) return this.make(key, response, next);
    const kept = this.kept.get(key);
    const made = this.making.get(key);
    const age = kept ? this.now() - kept.madeAt : Infinity;
    if (kept && age < GIVEN_MS) {
      give(kept, response);
      if (age < HOLDS_MS || kept.isAskedAnew) return;
      kept.isAskedAnew = true;
      return this.ask(request, { [AGAIN]: this.word });
    }
    if (!made) return this.make(key, response, next);
    // Somebody asked for the same a moment ago.
    void made.then((answer) => (answer ? give(answer, response) : next()), next);
  };

  private make(key: string, response: Response, next: NextFunction): void {
    const madeAt = this.now();
    const before = this.changes;
    const made = bodyOf(response).then((body): Answer | null => {
      if (body === null) return null;
      const headers = OWN_HEADERS.flatMap((name): Answer['headers'] => {
        const value = response.getHeader(name);
        return value === undefined ? [] : [[name, String(value)]];
      });
      return { madeAt, headers, body, nonce: response.locals.nonce as string };
    });
    this.making.set(key, made);
    void made.then((answer) => {
      if (before !== this.changes) return;
      this.making.delete(key);
      if (answer) this.keep(key, answer);
    });
    next();
  }

  private keep(key: string, answer: Answer): void {
    for (const [old, { madeAt }] of this.kept) if (this.now() - madeAt >= GIVEN_MS) this.kept.delete(old);
    const held = [...this.kept.values()].reduce((sum, one) => sum + one.body.length, 0);
    if (held + answer.body.length <= MOST_KEPT_BYTES) this.kept.set(key, answer);
  }
}

/** Of the page itself; the others are of each answer. */
const OWN_HEADERS = ['content-type', 'x-remix-response', 'cache-control'];

/** Each answer carries a word of its own: that of the one who had it made is put out of it. */
function give({ headers, body, nonce }: Answer, response: Response): void {
  for (const [name, value] of headers) response.setHeader(name, value);
  response.status(200).end(body.replaceAll(nonce, response.locals.nonce as string));
}

/** What is written to it, once it is whole; null where it is nothing to keep. Nobody waits for it to be kept. */
function bodyOf(response: Response): Promise<string | null> {
  return new Promise((resolve) => {
    const parts: Buffer[] = [];
    let bytes = 0;
    const isPage = () =>
      response.statusCode === 200 &&
      bytes <= MOST_BYTES &&
      response.getHeader('set-cookie') === undefined &&
      KEPT_TYPES.test(String(response.getHeader('content-type') ?? ''));
    const take = (chunk: unknown): void => {
      if (typeof chunk !== 'string' && !(chunk instanceof Uint8Array)) return;
      bytes += chunk.length;
      // What is told as it comes has no end: who asks for the same has one of their own at once.
      if (isPage()) parts.push(Buffer.from(chunk as string));
      else resolve(null);
    };
    const [write, end] = [response.write.bind(response), response.end.bind(response)];
    response.write = ((...args: Parameters<typeof write>) => {
      take(args[0]);
      return write(...args);
    }) as Response['write'];
    response.end = ((...args: Parameters<typeof end>) => {
      take(args[0]);
      resolve(isPage() ? Buffer.concat(parts).toString('utf8') : null);
      return end(...args);
    }) as Response['end'];
    // Broken off before it was whole.
    response.once('close', () => resolve(null));
  });
}
