// Who may ask: pages of this very address. Keeps another site's page, open in the same browser, from sending forms
// here, and a foreign name that was pointed at this machine from being answered at all.
import type { IncomingHttpHeaders } from 'node:http';

export interface Asking {
  method: string;
  headers: IncomingHttpHeaders;
  listensOn: string;
}

const LOOPBACK = new Set(['localhost', '127.0.0.1', '[::1]']);

/** A sentence where the request is refused, else null. */
export function refusalOf({ method, headers, listensOn }: Asking): string | null {
  const host = headers.host ?? '';
  const name = host.replace(/:\d+$/, '').toLowerCase();
  // Listening on loopback only, any other name for this machine is somebody else's.
  if (isLoopback(listensOn) && !LOOPBACK.has(name))
    return `This address answers to localhost only, not to ${name || 'a request without a name'}. Nothing was changed.`;
  if (method === 'GET' || method === 'HEAD') return null;
  const site = headers['sec-fetch-site'];
  const origin = headers.origin;
  if (site !== undefined && site !== 'same-origin' && site !== 'none')
    return 'This form came from another site, so it was refused. Nothing was changed.';
  if (origin !== undefined && hostOf(origin) !== host.toLowerCase())
    return 'This form came from another site, so it was refused. Nothing was changed.';
  if (origin === undefined && site === undefined)
    return 'This form does not say where it came from, so it was refused. Nothing was changed.';
  return null;
}

const isLoopback = (host: string) => host === 'localhost' || host === '::1' || host.startsWith('127.');

function hostOf(origin: string): string | null {
  try {
    return new URL(origin).host.toLowerCase();
  } catch {
    return null;
  }
}
