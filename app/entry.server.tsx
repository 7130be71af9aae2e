// Turns a request into a page, streamed; every script in it carries the request's own word. What fails is logged under the
// request's number.
import { PassThrough } from 'node:stream';
import { createReadableStreamFromReadable } from '@react-router/node';
import { isbot } from 'isbot';
import pino from 'pino';
import { type RenderToPipeableStreamOptions, renderToPipeableStream } from 'react-dom/server';
import { type EntryContext, type HandleErrorFunction, type RouterContextProvider, ServerRouter } from 'react-router';
import { factsOf, requestContext, type RequestFacts } from './request-facts.server.ts';
import { onNews } from './shell/news.server.ts';

export { onNews };

const log = pino({ name: 'web' });
export const streamTimeout = 15_000;

/** Called by the web process for every request. */
export function requestFacts(context: RouterContextProvider, facts: RequestFacts): void {
  context.set(requestContext, facts);
}

export default function handleRequest(
  request: Request,
  status: number,
  headers: Headers,
  ...[entry, context]: [EntryContext, RouterContextProvider]
): Promise<Response> {
  const { nonce, number } = factsOf(context);
  const whole = isbot(request.headers.get('user-agent') ?? '') || entry.isSpaMode;
  return new Promise((resolve, reject) => {
    let shellRendered = false;
    let answered = status;
    const ready: keyof RenderToPipeableStreamOptions = whole ? 'onAllReady' : 'onShellReady';
    const { pipe, abort } = renderToPipeableStream(<ServerRouter context={entry} url={request.url} nonce={nonce} />, {
      nonce,
      [ready]: () => {
        shellRendered = true;
        const body = new PassThrough();
        headers.set('Content-Type', 'text/html');
        resolve(new Response(createReadableStreamFromReadable(body), { headers, status: answered }));
        pipe(body);
      },
      onShellError: reject,
      onError: (error: unknown) => {
        answered = 500;
        if (shellRendered) log.error({ err: error, req: { id: number } }, 'a page broke off');
      },
    });
    setTimeout(abort, streamTimeout + 1000);
  });
}

export const handleError: HandleErrorFunction = (error, { request, context }) => {
  if (request.signal.aborted) return;
  const { number } = factsOf(context as RouterContextProvider);
  log.error({ err: error, req: { id: number, url: request.url } }, 'a request failed');
};
