// What is set aside: by the work that did it, and file by file. Taken back at once, whole or in part; removed for good only
// by the plan.
import clsx from 'clsx';
import { useState } from 'react';
import { Link, useFetcher } from 'react-router';
import type { Route } from './+types/aside';
import { ago, count, counted, exactTime, size } from '#core/wording/amounts.ts';
import { asideSentence } from '#core/wording/reclaim.ts';
import type { Answer } from '../lib/answer';
import { useLens, useTo } from '../shell/links';
import { Checkbox } from '../ui/checkbox';
import { Button, Card, Empty, KindDot, LevelMark, Said, Sentence } from '../ui/parts';
import { type Column, Table } from '../ui/table';

export { loader, action } from './aside.server.ts';

type Data = Route.ComponentProps['loaderData'];

export default function Aside({ loaderData: data }: Route.ComponentProps) {
  const lens = useLens();
  const { files, bytes, oldestMs } = data.total;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Sentence
        above={
          <Link to={lens('/reclaim')} className="hover:underline">
            Reclaim
          </Link>
        }
      >
        {asideSentence({
          files,
          bytes,
          oldestDays: oldestMs === null ? null : Math.floor((data.nowMs - oldestMs) / 86_400_000),
        })}
      </Sentence>
      {data.open === null ? (
        <div className="card">
          <Empty>
            What has no other copy, or a copy elsewhere, is set aside before it goes for good. It lies on its own
            volume, and comes back from here.
          </Empty>
        </div>
      ) : (
        <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,0.8fr)_minmax(0,1.2fr)] items-start gap-4">
          <Steps data={data} />
          <Files key={data.open.stepId} data={data} open={data.open} />
        </div>
      )}
    </div>
  );
}

function Steps({ data }: { data: Data }) {
  const to = useTo();
  return (
    <Card title="Set aside by">
      <ul className="rows" aria-label="Set aside by">
        {data.steps.map((step) => (
          <li key={step.stepId} className={clsx('py-2', step.stepId === data.open?.stepId && 'bg-accent-wash')}>
            <Link to={to({ step: String(step.stepId), before: null })} className="block hover:underline">
              <span className="flex items-baseline justify-between gap-3">
                <span className="truncate font-medium" title={step.title}>
                  {step.title}
                </span>
                <b className="shrink-0">{size(step.bytes)}</b>
              </span>
              <span className="block truncate text-[13px] text-ink-2" title={exactTime(step.atMs)}>
                {ago(step.atMs, Math.max(data.nowMs, step.atMs))}, {counted(step.files, 'file')} on{' '}
                {step.volumes.join(', ')}
                {step.onlyBytes > 0 && `, ${size(step.onlyBytes)} the only copy`}
              </span>
            </Link>
          </li>
        ))}
      </ul>
    </Card>
  );
}

function Files({ data, open }: { data: Data; open: NonNullable<Data['open']> }) {
  const fetcher = useFetcher<Answer>();
  const to = useTo();
  const [chosen, setChosen] = useState<ReadonlySet<number>>(new Set());
  const there = new Set(data.files.map((file) => file.id));
  const ids = [...chosen].filter((id) => there.has(id));
  const toggle = (id: number, on: boolean) =>
    setChosen((now) => new Set(on ? [...now, id] : [...now].filter((one) => one !== id)));
  return (
    <Card title={open.title} aside={open.reason}>
      <Do fetcher={fetcher} ids={ids} open={open} />
      <Said answer={fetcher.data} />
      <Table
        label="Files that are set aside"
        rows={data.files}
        rowKey={(file) => file.id}
        height="calc(100vh - 300px)"
        columns={columnsOf(chosen, toggle)}
      />
      {data.more !== null && (
        <Link to={to({ before: String(data.more) })} className="text-[13px] text-accent underline">
          More than the first {count(data.files.length)}
        </Link>
      )}
    </Card>
  );
}

type File = Data['files'][number];

const columnsOf = (chosen: ReadonlySet<number>, toggle: (id: number, on: boolean) => void): Column<File>[] => [
  {
    key: 'choose',
    title: <span className="sr-only">Chosen</span>,
    width: 26,
    cell: (file) => (
      <Checkbox checked={chosen.has(file.id)} onChange={(on) => toggle(file.id, on)} label={`Choose ${file.path}`} />
    ),
  },
  {
    key: 'path',
    title: 'It was',
    sort: (file) => file.path,
    cell: (file) => (
      <span
        className="flex max-w-[22rem] items-center gap-1.5"
        title={`${file.volume} / ${file.path}, now ${file.asidePath}`}
      >
        <KindDot kind={file.kind} />
        <span className="path truncate">{file.path}</span>
      </span>
    ),
  },
  {
    key: 'level',
    title: <span className="sr-only">Copies</span>,
    cell: (file) => <LevelMark level={file.level} />,
  },
  {
    key: 'size',
    title: 'Size',
    number: true,
    sort: (file) => file.sizeBytes,
    cell: (file) => <b>{size(file.sizeBytes)}</b>,
  },
];

interface DoProps {
  fetcher: ReturnType<typeof useFetcher<Answer>>;
  ids: readonly number[];
  open: NonNullable<Data['open']>;
}

function Do({ fetcher, ids, open }: DoProps) {
  return (
    <fetcher.Form method="post" className="mb-2 flex flex-wrap items-center gap-2">
      <input type="hidden" name="ids" value={ids.join(',')} />
      <input type="hidden" name="steps" value={ids.length > 0 ? '' : open.stepId} />
      <Button tone="first" type="submit" name="intent" value="take back" disabled={fetcher.state !== 'idle'}>
        Take back {ids.length > 0 ? counted(ids.length, 'file') : `all ${size(open.bytes)}`}
      </Button>
      <Button type="submit" name="intent" value="remove" disabled={fetcher.state !== 'idle'}>
        Add the removal of {ids.length > 0 ? counted(ids.length, 'file') : `all ${size(open.bytes)}`} to the plan
      </Button>
    </fetcher.Form>
  );
}
