// Who may ask: pages of this very server, under a name that it is known by. Keeps another site's page, open in the same
// browser, from sending forms here, and a foreign name that was pointed at this machine from being answered at all, also
// where the interface is open to the network.
import type { IncomingHttpHeaders } from 'node:http';

export interface Asking {
  method: string;
  headers: IncomingHttpHeaders;
  /** Host names and addresses that are this server's, lower case, without ports. */
  names: ReadonlySet<string>;
}

const LOOPBACK = ['localhost', '127.0.0.1', '[::1]'];
export const LARGEST_FORM_BYTES = 1_000_000;

/**
 * The names this server answers to: those on loopback, the address it listens on, and, where it listens on all of them,
 * the machine's own; and those the house gave it.
 */
export function ownNames(listensOn: string, given: readonly string[], machine: readonly string[]): Set<string> {
  const isEverywhere = listensOn === '0.0.0.0' || listensOn === '::';
  const own = isEverywhere ? machine : [listensOn];
  return new Set(
    [...LOOPBACK, ...own, ...given].map((name) =>
      (name.includes(':') && !name.startsWith('[') ? `[${name}]` : name).toLowerCase(),
    ),
  );
}

/** What refuses a request, with its status; null where it may go on. */
export function refusalOf({ method, headers, names }: Asking): { status: number; sentence: string } | null {
  const host = (headers.host ?? '').toLowerCase();
  const name = host.replace(/:\d+$/, '');
  if (!names.has(name))
    return refused(
      403,
      `This server does not answer to ${name || 'a request without a name'}. Nothing was changed. Give the name in KERAMION_NAMES if it is this server's.`,
    );
  if (method === 'GET' || method === 'HEAD') return null;
  const site = headers['sec-fetch-site'];
  const origin = headers.origin;
  const foreign = 'This form came from another site, so it was refused. Nothing was changed.';
  if (site !== undefined && site !== 'same-origin' && site !== 'none') return refused(403, foreign);
  if (origin !== undefined && hostOf(origin) !== host) return refused(403, foreign);
  if (origin === undefined && site === undefined)
    return refused(403, 'This form does not say where it came from, so it was refused. Nothing was changed.');
  return tooLarge(headers);
}

/** What is sent must say how long it is, and be no longer than a form can be. */
function tooLarge(headers: IncomingHttpHeaders): { status: number; sentence: string } | null {
  const length = headers['content-length'];
  if (headers['transfer-encoding'] !== undefined || (length !== undefined && !/^\d+$/.test(length)))
    return refused(411, 'What was sent does not say how long it is, so it was not read. Nothing was changed.');
  if (Number(length ?? 0) > LARGEST_FORM_BYTES)
    return refused(
      413,
      'What was sent is larger than 1 MB, which no form here is, so it was not read. Nothing was changed.',
    );
  return null;
}

const refused = (status: number, sentence: string) => ({ status, sentence });

function hostOf(origin: string): string | null {
  try {
    return new URL(origin).host.toLowerCase();
  } catch {
    return null;
  }
}
