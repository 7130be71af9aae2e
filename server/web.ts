// The web process: serves the built interface, refuses what comes from elsewhere or is too large, ends at once when told
// to. Touches no disk of the site.
import { randomBytes, randomUUID } from 'node:crypto';
import { get } from 'node:http';
import os from 'node:os';
import path from 'node:path';
import { fileURLToPath, pathToFileURL } from 'node:url';
import { createRequestHandler } from '@react-router/express';
import compression from 'compression';
import express, { type NextFunction, type Request, type Response } from 'express';
import helmet from 'helmet';
import pino from 'pino';
import { pinoHttp } from 'pino-http';
import { RouterContextProvider, type ServerBuild } from 'react-router';
import { ownNames, refusalOf } from './origin.ts';
import { connect } from './db/connect.ts';
import { KeptAnswers } from './kept-answers.ts';
import { startTelling } from './post/telling.ts';
import { settings } from './settings.ts';

const root = path.dirname(path.dirname(fileURLToPath(import.meta.url)));
const { databaseUrl, host, port, names: given } = settings();
const log = pino({ name: 'web' });
const machine = [
  os.hostname(),
  ...Object.values(os.networkInterfaces()).flatMap((all) => (all ?? []).map((one) => one.address)),
];
const names = ownNames(host, given, machine);

const app = express();
app.disable('x-powered-by');
app.use(
  pinoHttp({
    logger: log,
    genReqId: (_request, response) => {
      const id = randomUUID().slice(0, 8);
      response.setHeader('X-Request-Id', id);
      return id;
    },
    // What went well is not told: an event stream and a picture a second would bury what did not.
    customLogLevel: (_request, response, error) => (error || response.statusCode >= 500 ? 'error' : 'silent'),
    serializers: {
      req: (request: { method: string; url: string; id: string }) => ({
        id: request.id,
        method: request.method,
        url: request.url,
      }),
      res: (response: { statusCode: number }) => ({ status: response.statusCode }),
    },
  }),
);
app.use((_request, response, next) => {
  response.locals.nonce = randomBytes(16).toString('base64');
  next();
});
app.use(
  helmet({
    contentSecurityPolicy: {
      useDefaults: false,
      directives: {
        defaultSrc: ["'self'"],
        scriptSrc: ["'self'", (_request, response) => `'nonce-${(response as Response).locals.nonce as string}'`],
        // Widths of bars and places in charts are set on the elements themselves.
        styleSrc: ["'self'", "'unsafe-inline'"],
        imgSrc: ["'self'", 'data:', 'blob:'],
        // Small parts of our own fonts are built into the styles.
        fontSrc: ["'self'", 'data:'],
        objectSrc: ["'none'"],
        baseUri: ["'none'"],
        formAction: ["'self'"],
        frameAncestors: ["'none'"],
      },
    },
    referrerPolicy: { policy: 'same-origin' },
    // Served plainly on a house's own network: there is nothing to insist on.
    strictTransportSecurity: false,
  }),
);
app.use((request, response, next) => {
  const refusal = refusalOf({ method: request.method, headers: request.headers, names });
  if (!refusal) return next();
  // What is not read is not waited for either.
  response.setHeader('Connection', 'close');
  response.status(refusal.status).type('text/plain').send(refusal.sentence);
});
app.get('/health', (_request, response) => void response.type('text/plain').send('ok'));
app.use(compression());
app.use(oneDrainListener);
app.use('/assets', express.static(path.join(root, 'build/client/assets'), { immutable: true, maxAge: '1y' }));
app.use(express.static(path.join(root, 'build/client'), { maxAge: '1h' }));
const build = (await import(pathToFileURL(path.join(root, 'build/server/index.js')).href)) as ServerBuild & {
  entry: {
    module: {
      requestFacts?: (context: RouterContextProvider, facts: { nonce: string; number: string }) => void;
      onNews?: (tell: () => void) => void;
    };
  };
};
const kept = new KeptAnswers((request, headers) => {
  const { host: name, cookie, accept } = request.headers;
  const at = { host: host === '0.0.0.0' ? '127.0.0.1' : host, port, path: request.originalUrl };
  const asking = get(
    { ...at, headers: { host: name, ...(cookie && { cookie }), ...(accept && { accept }), ...headers } },
    (answer) => answer.resume(),
  );
  // Then the next who asks has it made.
  asking.on('error', () => undefined);
});
build.entry.module.onNews?.(kept.forget);
app.use(kept.handle);
app.use(
  createRequestHandler({
    build,
    mode: 'production',
    getLoadContext: (request, response) => {
      const context = new RouterContextProvider();
      const number = String((request as unknown as { id: unknown }).id);
      build.entry.module.requestFacts?.(context, { nonce: response.locals.nonce as string, number });
      return context;
    },
  }),
);
app.use((error: Error, request: Request, response: Response, _next: NextFunction) => {
  const { id } = request as unknown as { id: string };
  log.error({ err: error, req: { id } }, 'a request failed');
  if (response.headersSent) return void response.destroy();
  response
    .status(500)
    .type('text/plain')
    .send(`This page could not be made. The log of the web process says why, under the number ${id}.`);
});

const server = app.listen(port, host);
server.on('error', (error) => {
  console.error(`The interface cannot listen on ${host}:${port}: ${error.message}`);
  process.exit(1);
});
// Where no worker is left, somebody has to tell.
startTelling(connect(databaseUrl, 2), (error) => log.warn({ err: error }, 'what is to be told could not be put down'));
const end = () => {
  server.close(() => process.exit(0));
  // Event streams stay open for ever; people's browsers open them again.
  server.closeAllConnections();
};
process.once('SIGTERM', end);
process.once('SIGINT', end);

type Listener = (...args: unknown[]) => void;

/**
 * What is asked once of a compressed response is never taken off its stream again, so a long page gathers a listener for
 * every pause. Here all of them wait behind one.
 */
function oneDrainListener(_request: Request, response: Response, next: NextFunction): void {
  const once = response.once.bind(response);
  const off = response.off.bind(response);
  const waiting = new Set<Listener>();
  let listens = false;
  response.once = ((event: string | symbol, listener: Listener) => {
    if (event !== 'drain') return once(event, listener);
    waiting.add(listener);
    if (!listens)
      response.on('drain', () => {
        for (const each of [...waiting]) {
          waiting.delete(each);
          each.call(response);
        }
      });
    listens = true;
    return response;
  }) as Response['once'];
  response.off = ((event: string | symbol, listener: Listener) => {
    if (event === 'drain' && waiting.delete(listener)) return response;
    return off(event, listener);
  }) as Response['off'];
  next();
}
