// What is different between a snapshot and its document as it is now, timeline by timeline and part by part.
import { useFetcher } from 'react-router';
import { counted, mediaTime } from '#core/wording/amounts.ts';
import { Fold } from '../ui/fold';
import { Button, Chip, type Tone } from '../ui/parts';
import { type Column, Table } from '../ui/table';
import type { loader } from './compared-data.server.ts';

type Compared = NonNullable<Awaited<ReturnType<typeof loader>>['timelines']>[number];
type Change = Compared['changes'][number];

const IS: Record<Compared['is'], { words: string; tone: Tone }> = {
  new: { words: 'new since', tone: 'ok' },
  gone: { words: 'gone since', tone: 'caution' },
  changed: { words: 'changed', tone: 'plain' },
  same: { words: 'the same', tone: 'ok' },
};

export function ComparedWithNow({ projectId, snapshotId }: { projectId: number; snapshotId: number }) {
  const fetcher = useFetcher<typeof loader>({ key: `compared ${snapshotId}` });
  const asked = `/projects/${projectId}/compared/${snapshotId}`;
  if (!fetcher.data)
    return (
      <div>
        <Button disabled={fetcher.state !== 'idle'} onClick={() => void fetcher.load(asked)}>
          {fetcher.state === 'idle' ? 'Compare it with the document now' : 'Comparing'}
        </Button>
      </div>
    );
  const { timelines } = fetcher.data;
  if (timelines === null)
    return (
      <p className="text-ink-2">
        Part by part it cannot be compared: it is from before that was kept, or the document cannot be read now. Put it
        beside the document, and the two can be compared.
      </p>
    );
  return (
    <div className="grid gap-1.5" aria-live="polite">
      {timelines.map((timeline) => (
        <OneTimeline key={timeline.name} timeline={timeline} />
      ))}
    </div>
  );
}

function OneTimeline({ timeline }: { timeline: Compared }) {
  const { name, is, kept, changed, changes } = timeline;
  const line = (
    <span className="flex flex-wrap items-baseline gap-x-2">
      <b className="font-medium text-ink">{name}</b>
      <Chip tone={IS[is].tone}>{IS[is].words}</Chip>
      <span className="text-[13px]">
        {is === 'changed'
          ? `${counted(changed, 'part')} ${changed === 1 ? 'differs' : 'differ'}, ${kept} the same`
          : counted(kept + changed, 'part')}
      </span>
    </span>
  );
  if (changes.length === 0) return <div className="min-h-6 pl-[18px] text-ink-2">{line}</div>;
  return (
    <Fold line={line}>
      <Table
        label={`What is different in ${name}`}
        rows={changes.map((change, at) => ({ ...change, at }))}
        rowKey={(row) => row.at}
        height={260}
        columns={COLUMNS}
      />
      {changed > changes.length && (
        <p className="mt-1 text-[13px] text-ink-2">
          The first {changes.length} of {changed} parts.
        </p>
      )}
    </Fold>
  );
}

const COLUMNS: Column<Change & { at: number }>[] = [
  {
    key: 'media',
    title: 'Media',
    sort: (row) => row.media,
    cell: (row) => (
      <span className="path block max-w-44 truncate" title={row.media}>
        {row.media || 'without a name'}
      </span>
    ),
  },
  { key: 'then', title: 'Then', sort: (row) => row.then?.from ?? -1, cell: (row) => partWords(row.then) },
  { key: 'now', title: 'Now', sort: (row) => row.now?.from ?? -1, cell: (row) => partWords(row.now) },
];

const partWords = (part: Change['then']) =>
  part === null ? (
    <span className="text-ink-2">not used</span>
  ) : part.lasts === 0 ? (
    'all of it'
  ) : (
    <span className="font-mono text-[12.5px]">
      {mediaTime(part.from)} to {mediaTime(part.from + part.lasts)}
    </span>
  );
