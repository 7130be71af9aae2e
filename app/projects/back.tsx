// How far back a project can go: each of its documents with its snapshots, what changed from one to the next and since, and one
// of them put beside the document.
import { useState } from 'react';
import { Link, useFetcher } from 'react-router';
import type { Route } from './+types/back';
import { ago, counted, exactTime, listed, size } from '#core/wording/amounts.ts';
import { backSentence } from '#core/wording/lenses.ts';
import type { Answer } from '../lib/answer';
import { useLens } from '../shell/links';
import { Button, Card, Chip, Empty, Said, Sentence } from '../ui/parts';
import { type Column, Table } from '../ui/table';

export { loader, action } from './back.server.ts';

type Data = Route.ComponentProps['loaderData'];
type Line = Data['lines'][number];
type Snapshot = Line['snapshots'][number];

export default function Back({ loaderData: data }: Route.ComponentProps) {
  const lens = useLens();
  const { project, kept, nowMs, lines, on } = data;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Sentence
        above={
          <Link to={lens(`/projects/${project.projectId}`)} className="hover:underline">
            {project.name}
          </Link>
        }
      >
        {backSentence({ project: project.name, ...kept, nowMs })}
      </Sentence>
      <p className="text-ink-2">
        {on === null
          ? 'No snapshots are made now. '
          : `Documents of projects in work that changed are kept on ${on}, at most every ${data.everyMinutes === 1 ? 'minute' : counted(data.everyMinutes, 'minute')}. `}
        <Link to="/settings?show=snapshots" className="text-accent underline">
          {on === null ? 'Say in Settings where they go' : 'Change that in Settings'}
        </Link>
      </p>
      {lines.map((line) => (
        <Document key={line.fileId} line={line} nowMs={nowMs} />
      ))}
    </div>
  );
}

const phrases = (all: readonly string[]): string => {
  const some = all.slice(0, 4);
  return listed(all.length > some.length ? [...some, `${all.length - some.length} more`] : some);
};

function Document({ line, nowMs }: { line: Line; nowMs: number }) {
  const fetcher = useFetcher<Answer>();
  const [chosen, setChosen] = useState(line.snapshots[0]?.snapshotId ?? null);
  const picked = line.snapshots.find((one) => one.snapshotId === chosen) ?? line.snapshots[0];
  if (!picked) return <Empty>Nothing is kept of it.</Empty>;
  return (
    <Card
      title={line.name}
      aside={
        <span className="path">
          {line.volume} / {line.path}
          {!line.isThere && ', which is gone'}
        </span>
      }
    >
      <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1.6fr)_minmax(0,1fr)] items-start gap-6">
        <Table
          label={`Snapshots of ${line.name}`}
          rows={line.snapshots}
          rowKey={(row) => row.snapshotId}
          rowHeight={44}
          height={Math.min(line.snapshots.length * 44 + 40, 320)}
          columns={columnsOf(picked.snapshotId, setChosen, nowMs)}
          marked={(row) => row.snapshotId === picked.snapshotId}
        />
        <div className="grid gap-3">
          <h3 className="font-medium">As it was {exactTime(picked.takenMs)}</h3>
          <Until picked={picked} />
          <p className="text-[13px] text-ink-2">
            Kept on {picked.on}, <span className="path break-all">{picked.path}</span>
          </p>
          <fetcher.Form method="post" className="grid gap-2">
            <input type="hidden" name="snapshotId" value={picked.snapshotId} />
            <div>
              <Button tone="first" type="submit" disabled={fetcher.state !== 'idle'}>
                Put it beside the document
              </Button>
            </div>
            <Said answer={fetcher.data} />
          </fetcher.Form>
        </div>
      </div>
    </Card>
  );
}

function Until({ picked }: { picked: Snapshot }) {
  if (picked.untilNow === null) return <p className="text-ink-2">What the document says now is not known.</p>;
  if (picked.untilNow.length === 0)
    return (
      <p>
        <Chip tone="ok">as the document is now</Chip>
      </p>
    );
  return (
    <div>
      <p className="text-[13px] text-ink-2">Since then</p>
      <ul className="mt-1 grid gap-0.5">
        {picked.untilNow.slice(0, 8).map((phrase) => (
          <li key={phrase}>{phrase}</li>
        ))}
        {picked.untilNow.length > 8 && <li className="text-ink-2">and {picked.untilNow.length - 8} more</li>}
      </ul>
    </div>
  );
}

const columnsOf = (picked: number, onPick: (snapshotId: number) => void, nowMs: number): Column<Snapshot>[] => [
  {
    key: 'when',
    title: 'Taken',
    width: 120,
    sort: (row) => row.takenMs,
    cell: (row) => (
      <button
        type="button"
        aria-pressed={row.snapshotId === picked}
        onClick={() => onPick(row.snapshotId)}
        title={exactTime(row.takenMs)}
        className="font-medium text-accent hover:underline"
      >
        {ago(row.takenMs, nowMs)}
      </button>
    ),
  },
  {
    key: 'since',
    title: 'What changed since the one before',
    cell: (row) => (
      <span className="line-clamp-2 whitespace-normal">
        {row.since === null
          ? 'the first that is kept'
          : row.since.length === 0
            ? 'nothing in timelines, clips or media'
            : phrases(row.since)}
      </span>
    ),
  },
  { key: 'size', title: 'Size', number: true, width: 90, sort: (row) => row.bytes, cell: (row) => size(row.bytes) },
];
