// The web process: serves the built interface, refuses forms that come from elsewhere, ends at once when told to.
import path from 'node:path';
import { fileURLToPath, pathToFileURL } from 'node:url';
import { createRequestHandler } from '@react-router/express';
import compression from 'compression';
import express from 'express';
import { RouterContextProvider, type ServerBuild } from 'react-router';
import { refusalOf } from './origin.ts';
import { settings } from './settings.ts';

const root = path.dirname(path.dirname(fileURLToPath(import.meta.url)));
const { host, port } = settings();

const app = express();
app.disable('x-powered-by');
app.use((request, response, next) => {
  response.setHeader('X-Content-Type-Options', 'nosniff');
  response.setHeader('Referrer-Policy', 'same-origin');
  response.setHeader('Content-Security-Policy', "frame-ancestors 'none'");
  const refusal = refusalOf({ method: request.method, headers: request.headers, listensOn: host });
  if (refusal) response.status(403).type('text/plain').send(refusal);
  else next();
});
app.get('/health', (_request, response) => void response.type('text/plain').send('ok'));
app.use(compression());
app.use('/assets', express.static(path.join(root, 'build/client/assets'), { immutable: true, maxAge: '1y' }));
app.use(express.static(path.join(root, 'build/client'), { maxAge: '1h' }));
const build = (await import(pathToFileURL(path.join(root, 'build/server/index.js')).href)) as ServerBuild;
app.use(createRequestHandler({ build, mode: 'production', getLoadContext: () => new RouterContextProvider() }));

const server = app.listen(port, host);
server.on('error', (error) => {
  console.error(`The interface cannot listen on ${host}:${port}: ${error.message}`);
  process.exit(1);
});
const end = () => {
  server.close(() => process.exit(0));
  // Event streams stay open for ever; people's browsers open them again.
  server.closeAllConnections();
};
process.once('SIGTERM', end);
process.once('SIGINT', end);
