// Words of what is told by itself: the morning as a mail, and what cannot wait for it.
import { ago, capital, counted, exactTime, size } from './amounts.ts';
import { morningSentence, type MorningFacts, underHeadings } from './nights.ts';

export interface MorningTold extends MorningFacts {
  done: readonly { action: string; title: string; who: string }[];
  failed: readonly { title: string; who: string; why: string }[];
  waiting: readonly { title: string; for: readonly { name: string; where: string }[] }[];
  shelf: { archives: number; sure: number; damaged: number; oldestReadBackMs: number | null };
}

interface Told {
  subject: string;
  text: string;
}

/** Decisions of which a mail names so many. */
const MOST_DECISIONS = 10;

/**
 * The morning page as a mail: what happened, what did not and why, what waits, how sure the shelf is, and what needs somebody.
 * @param address of the interface, without a slash at its end; '' where the house has told none
 */
export function morningMail(
  morning: MorningTold,
  {
    house,
    address,
    decisions,
    nowMs,
  }: { house: string; address: string; decisions: readonly { what: string; detail: string }[]; nowMs: number },
): Told {
  const wrong = morning.failed.length + morning.shelf.damaged;
  const { archives, sure, oldestReadBackMs } = morning.shelf;
  const parts = [
    morningSentence(morning),
    list(
      'Did not work',
      morning.failed.map(({ title, who, why }) => `${title} (${who}). ${why}`),
    ),
    list(
      'Waits',
      morning.waiting.map(
        ({ title, for: awaited }) =>
          `${title}, for ${awaited.map(({ name, where }) => (where === '' ? name : `${name} (${where})`)).join(', ')}`,
      ),
    ),
    list('Needs somebody', [
      ...decisions.slice(0, MOST_DECISIONS).map(({ what, detail }) => `${what}. ${detail}`),
      ...(decisions.length > MOST_DECISIONS ? [`and ${decisions.length - MOST_DECISIONS} more`] : []),
    ]),
    list(
      'Done',
      underHeadings(morning.done, morning.tally).map(
        ({ heading, receipts, bytes }) =>
          `${heading}: ${counted(receipts, 'receipt')}${bytes > 0 ? `, ${size(bytes)}` : ''}`,
      ),
    ),
    archives === 0
      ? ''
      : `The shelf: ${sure} of ${counted(archives, 'archive')} ${archives === 1 ? 'has' : 'have'} every copy ${archives === 1 ? 'it' : 'they'} should${oldestReadBackMs === null ? '' : `; the oldest read-back is ${ago(oldestReadBackMs, nowMs)}`}.`,
    link(address, '/nights'),
  ];
  return {
    subject: `${house}: ${wrong === 0 ? 'a quiet night' : `${counted(wrong, 'thing')} of the night ${wrong === 1 ? 'needs' : 'need'} you`}`,
    text: `${parts.filter(Boolean).join('\n\n')}\n`,
  };
}

/** What cannot wait: what it is, what to do, and where. */
export function alertMail(
  { what, detail, sinceMs }: { what: string; detail: string; sinceMs: number },
  { house, address }: { house: string; address: string },
): Told {
  const parts = [
    `${what}.`,
    `${capital(detail.replace(/\.$/, ''))}.`,
    `Seen ${exactTime(sinceMs)}. It is told once; put it off on the page of the site, with a day and a reason, and it is not told until then.`,
    link(address, '/'),
  ];
  return { subject: `${house}: ${what}`, text: `${parts.filter(Boolean).join('\n\n')}\n` };
}

const list = (heading: string, lines: readonly string[]): string =>
  lines.length === 0 ? '' : [`${heading}:`, ...lines.map((line) => `- ${line.replaceAll(/\s+/g, ' ')}`)].join('\n');

const link = (address: string, path: string): string => (address === '' ? '' : `${address}${path}`);
