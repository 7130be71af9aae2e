// Words of a morning's page.
import { capital, counted, inWords, listed, size } from './amounts.ts';

export interface Tally {
  action: string;
  receipts: number;
  bytes: number;
}

export interface MorningFacts {
  /** Of what was removed for good: what the files said, and what the volumes had more afterwards. */
  removedBytes: number;
  freedBytes: number;
  /** All that was done, by what it was. */
  tally: readonly Tally[];
  snapshots: { documents: number };
  failed: readonly unknown[];
  waiting: readonly unknown[];
  shelf: { damaged: number };
}

/** The night in a sentence or two: what it came to, and what needs somebody. */
export function morningSentence({
  removedBytes,
  freedBytes,
  tally,
  snapshots,
  failed,
  waiting,
  shelf,
}: MorningFacts): string {
  const of = (action: string) => tally.find((one) => one.action === action)?.receipts ?? 0;
  const all = tally.reduce((sum, one) => sum + one.receipts, 0);
  const came = [
    removedBytes > 0 ? freedWords(removedBytes, freedBytes) : '',
    of('archive sealed') > 0 ? `sealed ${counted(of('archive sealed'), 'archive')}` : '',
    of('copy read back') > 0 ? `read back ${counted(of('copy read back'), 'copy', 'copies')}` : '',
    snapshots.documents > 0 ? `kept snapshots of ${counted(snapshots.documents, 'document')}` : '',
    of('catalogue backed up') > 0 ? 'backed up the catalogue' : '',
  ].filter(Boolean);
  const first =
    came.length > 0
      ? `Since yesterday evening the house ${listed(came)}.`
      : all > 0
        ? `Since yesterday evening ${counted(all, 'thing was', 'things were')} done.`
        : 'Nothing happened since yesterday evening.';
  const wrong = [
    failed.length > 0 ? `${inWords(failed.length)} did not work` : '',
    shelf.damaged > 0
      ? `${inWords(shelf.damaged)} ${shelf.damaged === 1 ? 'archive has' : 'archives have'} a damaged copy`
      : '',
    waiting.length > 0
      ? `${inWords(waiting.length)} ${waiting.length === 1 ? 'waits' : 'wait'} for a disk or carrier`
      : '',
  ].filter(Boolean);
  return `${first} ${wrong.length === 0 ? 'Nothing went wrong.' : `${capital(listed(wrong))}.`}`;
}

/** Files with holes or other names give back less than they say. */
const freedWords = (removedBytes: number, freedBytes: number): string =>
  freedBytes > 0.9 * removedBytes
    ? `freed ${size(freedBytes)}`
    : `removed ${size(removedBytes)}, which gave back ${size(freedBytes)} on disk`;

/** What a receipt's action is told under. */
const HEADINGS: readonly (readonly [heading: string, actions: readonly string[]])[] = [
  [
    'Removed and set aside',
    [
      ...[
        'caches removed',
        'files removed',
        'set-aside files removed for good',
        'originals removed',
        'folders removed',
      ],
      'files set aside',
    ],
  ],
  ['Archived and copied', ['archive sealed', 'copy written', 'handed over', 'taken in']],
  ['Read back', ['copy read back']],
  [
    'Moved and brought back',
    [
      'files moved',
      'files copied',
      'project restored',
      'put back',
      'files taken back',
      'media relinked',
      'snapshot put beside',
    ],
  ],
  ['Backed up', ['catalogue backed up']],
];

export interface Headed<One> {
  heading: string;
  /** The latest of them, and how many there are with their bytes. */
  items: One[];
  receipts: number;
  bytes: number;
}

/** In the order in which people look for it; what is none of these is told last. */
export function underHeadings<One extends { action: string }>(
  done: readonly One[],
  tally: readonly Tally[],
): Headed<One>[] {
  const known = new Set(HEADINGS.flatMap(([, actions]) => actions));
  const all: (readonly [string, (action: string) => boolean])[] = [
    ...HEADINGS.map(([heading, actions]) => [heading, (action: string) => actions.includes(action)] as const),
    ['Changed', (action) => !known.has(action)],
  ];
  return all
    .map(([heading, fits]) => {
      const own = tally.filter((one) => fits(one.action));
      return {
        ...{ heading, items: done.filter((one) => fits(one.action)) },
        receipts: own.reduce((sum, one) => sum + one.receipts, 0),
        bytes: own.reduce((sum, one) => sum + one.bytes, 0),
      };
    })
    .filter(({ receipts }) => receipts > 0);
}
