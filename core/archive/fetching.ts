// What it takes until something is here again, beyond copying it: carriers that are loaded, tapes that are wound, files that
// thaw, and what a store asks for it.
import { duration } from '../wording/amounts.ts';
import { type OnTape, readSeconds, type TapeGeometry, tapeOrder } from './tape-order.ts';

export interface FromCarrier {
  carrier: string;
  bytes: number;
  /** Seconds before the first byte, each time it is loaded, and the price of a GB. */
  thawSeconds: number;
  mountSeconds: number;
  costPerGb: number;
  /** What lies on it by place, in the order in which it was asked for; null where it is not wound. */
  tape: { geometry: TapeGeometry; files: readonly (OnTape & { archiveFileId: number })[] } | null;
}

export interface Fetch {
  /** Seconds before and between the bytes. */
  seconds: number;
  /** Of them, waiting until everything has thawed. */
  thawSeconds: number;
  cost: number;
  tapes: { carrier: string; files: number; seconds: number; secondsAsAsked: number }[];
  /** In the order in which they are read, of those that lie on tapes. */
  order: number[];
}

export function fetchFrom(carriers: readonly FromCarrier[]): Fetch {
  const fetch: Fetch = { seconds: 0, thawSeconds: 0, cost: 0, tapes: [], order: [] };
  for (const { carrier, bytes, thawSeconds, mountSeconds, costPerGb, tape } of carriers) {
    fetch.thawSeconds = Math.max(fetch.thawSeconds, thawSeconds);
    fetch.seconds += mountSeconds;
    fetch.cost += (bytes / 1e9) * costPerGb;
    if (!tape) continue;
    const { geometry, files } = tape;
    const ordered = tapeOrder(geometry, files).map((i) => files[i]!);
    const reading = bytes / geometry.bytesASecond;
    const seconds = readSeconds(geometry, ordered);
    fetch.order.push(...ordered.map((file) => file.archiveFileId));
    fetch.seconds += Math.max(0, seconds - reading);
    fetch.tapes.push({ carrier, files: files.length, seconds, secondsAsAsked: readSeconds(geometry, files) });
  }
  fetch.seconds += fetch.thawSeconds;
  return fetch;
}

/** Whether somebody has to be asked before it is read: it costs something, or has to thaw. */
export const isDear = ({ thawSeconds, cost }: Pick<Fetch, 'thawSeconds' | 'cost'>): boolean =>
  thawSeconds > 0 || cost >= 0.005;

/** ", 12 h until it has thawed, and 1.20 to bring it back"; nothing where it is there at once. */
export function fetchWords({ thawSeconds, cost }: Pick<Fetch, 'thawSeconds' | 'cost'>): string {
  return [
    ...(thawSeconds > 0 ? [`${duration(thawSeconds)} until it has thawed`] : []),
    ...(cost >= 0.005 ? [`and ${cost.toFixed(2)} to bring it back`] : []),
  ]
    .map((words) => `, ${words}`)
    .join('');
}
