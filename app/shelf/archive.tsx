// One archive: where each part of each copy lies and how sure it is, what it holds, and what it lets go of.
import clsx from 'clsx';
import { useState } from 'react';
import { Form, Link, useFetcher } from 'react-router';
import type { Route } from './+types/archive';
import { folderOf, nameOf } from '#core/paths.ts';
import { soonest } from '#core/archive/copies.ts';
import { ago, counted, exactTime, listed, size } from '#core/wording/amounts.ts';
import type { Answer } from '../lib/answer';
import { useLens, useTo } from '../shell/links';
import { Checkbox } from '../ui/checkbox';
import { buttonLook, Card, Chip, Empty, inputLook, Said, Sentence } from '../ui/parts';
import { Picture } from '../ui/picture';
import { type Column, Table } from '../ui/table';
import { AnotherCopy } from './another-copy';
import { Keeping } from './keeping';
import { Release } from './release';
import { Restore } from './restore';
import { Viewing } from './viewing';

export { loader, action } from './archive.server.ts';

type Data = Route.ComponentProps['loaderData'];
type Content = Data['content'][number];
type Part = Data['parts'][number];

export default function Archive({ loaderData: data }: Route.ComponentProps) {
  const lens = useLens();
  const { archive, project } = data;
  const good = soonest(archive.copies);
  const [ticked, setTicked] = useState<Ticked>(new Map());
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex items-end justify-between slim:flex-wrap gap-4">
        <Sentence
          above={
            <span className="flex flex-wrap gap-x-3">
              <Link to={lens('/shelf')} className="hover:underline">
                Shelf
              </Link>
              {project && (
                <Link to={lens(`/projects/${project.id}`)} className="hover:underline">
                  Project {project.name}
                </Link>
              )}
              <span className="path">{archive.lies}</span>
            </span>
          }
        >
          {data.sentence}
        </Sentence>
        {archive.state === 'sealed' && good && (
          <Restore
            key={ticked.size}
            archive={archive}
            copy={good}
            tone="first"
            portions={data.portions}
            ticked={[...ticked].map(([id, bytes]) => ({ id, bytes }))}
          />
        )}
      </div>
      <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1fr)_320px] items-start gap-4">
        <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
          <Copies data={data} />
          <Viewing data={data} />
          <Contents data={data} ticked={ticked} onTick={setTicked} />
        </div>
        <div className="grid gap-4">
          <Release data={data} />
          <Keeping data={data} />
          <Shape data={data} />
          <Receipts data={data} />
        </div>
      </div>
    </div>
  );
}

/** A copy at a time: which part lies where, whether it can be reached, when it was last read back. */
function Copies({ data }: { data: Data }) {
  const fetcher = useFetcher<Answer>();
  const { archive, parts, nowMs } = data;
  const own = [...new Set(parts.filter((part) => part.ofBase === null).map((part) => part.copyId))];
  const base = parts.filter((part) => part.ofBase !== null);
  return (
    <Card
      title="Copies"
      aside={
        archive.short !== null ? (
          <Chip tone="caution" title="The house wants more: Settings, Removing and archives">
            {archive.short}
          </Chip>
        ) : undefined
      }
    >
      <Said answer={fetcher.data} />
      {parts.length === 0 ? (
        <Empty>No copy of it is written yet.</Empty>
      ) : (
        <ul className="rows">
          {own.map((copyId, i) => (
            <Copy
              key={copyId}
              name={`Copy ${i + 1}`}
              parts={parts.filter((part) => part.copyId === copyId)}
              nowMs={nowMs}
            >
              {archive.state === 'sealed' && parts.find((part) => part.copyId === copyId)!.state !== 'replaced' && (
                <fetcher.Form method="post">
                  <input type="hidden" name="archiveId" value={archive.archiveId} />
                  <input type="hidden" name="on" value={parts.find((part) => part.copyId === copyId)!.carrier} />
                  <button
                    type="submit"
                    name="intent"
                    value="read back"
                    aria-label={`Read back now: copy ${i + 1}`}
                    className="text-[13px] text-accent underline"
                  >
                    Read back now
                  </button>
                </fetcher.Form>
              )}
            </Copy>
          ))}
          {base.length > 0 && (
            <Copy
              name={`The archive it builds on, ${listed([...new Set(base.map((part) => part.ofBase!))])}`}
              parts={base}
              nowMs={nowMs}
            />
          )}
        </ul>
      )}
      {archive.state === 'sealed' && <AnotherCopy data={data} />}
    </Card>
  );
}

function Copy({
  name,
  parts,
  nowMs,
  children,
}: {
  name: string;
  parts: readonly Part[];
  nowMs: number;
  children?: React.ReactNode;
}) {
  return (
    <li className="py-2">
      <div className="flex items-baseline justify-between gap-2">
        <span className="font-medium">{name}</span>
        {children}
      </div>
      <ul className="mt-1 grid gap-1">
        {parts.map((part) => (
          <li
            key={`${part.copyId} ${part.folder}`}
            className="flex flex-wrap items-baseline gap-x-3 gap-y-0.5 text-[13px]"
          >
            <b className="path">{part.carrier}</b>
            <span className="text-ink-2">{part.keptAt}</span>
            <span className="path text-ink-2">{part.folder}</span>
            <span className="text-ink-2">
              {size(part.bytes)}, {counted(part.files, 'file')}
            </span>
            <PartState part={part} nowMs={nowMs} />
            {part.damaged.length > 0 && (
              <span className="w-full text-loss">
                Not as sealed: <span className="path">{listed(part.damaged.slice(0, 5))}</span>
                {part.damaged.length > 5 && ` and ${part.damaged.length - 5} more`}
              </span>
            )}
          </li>
        ))}
      </ul>
    </li>
  );
}

function PartState({ part, nowMs }: { part: Part; nowMs: number }) {
  if (part.state === 'damaged') return <Chip tone="loss">damaged</Chip>;
  if (part.state === 'replaced') return <Chip title="It is damaged; another copy was made instead">replaced</Chip>;
  if (part.state !== 'good') return <Chip>{part.state}</Chip>;
  return (
    <>
      <Chip tone="ok" title={part.readBackMs === null ? undefined : exactTime(part.readBackMs)}>
        {part.readBackMs === null ? 'good' : `read back ${ago(part.readBackMs, nowMs)}`}
      </Chip>
      {part.carrierState !== 'reachable' && <Chip tone="caution">not in reach</Chip>}
    </>
  );
}

const COLUMNS: Column<Content>[] = [
  {
    key: 'at',
    title: 'Inside',
    sort: (row) => row.at,
    cell: (row) => (
      <span className="flex items-center gap-2">
        <span aria-hidden className={clsx('h-6 w-10 shrink-0 overflow-hidden rounded-sm', row.hasPicture && 'bg-free')}>
          {row.hasPicture && <Picture fileId={row.fileId} />}
        </span>
        <span className="block max-w-[11rem] leading-tight" title={row.at}>
          <span className="path block truncate">{nameOf(row.at)}</span>
          <span className="path block truncate text-xs text-ink-2">{folderOf(row.at)}</span>
        </span>
      </span>
    ),
  },
  {
    key: 'from',
    title: 'Was at',
    sort: (row) => `${row.volume} ${row.path}`,
    cell: (row) => (
      <span className="flex max-w-[11rem] gap-1" title={[row.volume, row.path].filter(Boolean).join(' / ')}>
        <span className="truncate">{row.volume === '' ? row.path : row.volume}</span>
        {!row.isThere && <span className="shrink-0 text-ink-2">gone</span>}
      </span>
    ),
  },
  {
    key: 'frames',
    title: 'Frames',
    number: true,
    cell: (row) =>
      row.frames ? (
        `${row.frames.from}–${row.frames.to - 1}`
      ) : row.encoding ? (
        <span title="Encoded anew: its original is another file.">
          {row.encoding === 'lossless' ? 'without loss' : 'viewing copy'}
        </span>
      ) : row.whyWhole ? (
        <span title={row.whyWhole}>whole</span>
      ) : (
        ''
      ),
  },
  { key: 'size', title: 'Size', number: true, sort: (row) => row.bytes, cell: (row) => <b>{size(row.bytes)}</b> },
];

/** Files that are wanted back, with what each weighs; also those of other pages of the list. */
type Ticked = ReadonlyMap<number, number>;

const ticking = (ticked: Ticked, onTick: (next: Ticked) => void): Column<Content> => ({
  key: 'tick',
  title: <span className="sr-only">Restore</span>,
  width: 28,
  cell: (row) => (
    <Checkbox
      checked={ticked.has(row.id)}
      label={`Restore ${row.at}`}
      onChange={(on) => {
        const next = new Map(ticked);
        if (on) next.set(row.id, row.bytes);
        else next.delete(row.id);
        onTick(next);
      }}
    />
  ),
});

interface ContentsProps {
  data: Data;
  ticked: Ticked;
  onTick: (next: Ticked) => void;
}

function Contents({ data, ticked, onTick }: ContentsProps) {
  const to = useTo();
  const { content, more, word } = data;
  return (
    <Card
      title="What it holds"
      aside={
        <Form method="get" role="search" className="flex gap-2">
          <input
            name="q"
            type="search"
            aria-label="Find in this archive"
            placeholder="Find a name in it"
            defaultValue={word}
            className={`${inputLook} h-7 w-44 text-[13px]`}
          />
        </Form>
      }
    >
      {content.length === 0 ? (
        <Empty>
          {word === '' ? 'It holds nothing yet.' : `Nothing in it has “${word}” in its name or former place.`}
        </Empty>
      ) : (
        <Table
          label="Files of this archive"
          rowHeight={44}
          rows={content}
          rowKey={(row) => row.id}
          height="max(220px, calc(100vh - 480px))"
          columns={[
            ...(data.archive.state === 'sealed' ? [ticking(ticked, onTick)] : []),
            ...COLUMNS.filter(
              ({ key }) => key !== 'frames' || content.some((row) => row.frames || row.whyWhole || row.encoding),
            ),
          ]}
        />
      )}
      {more !== null && (
        <Link to={to({ after: String(more) })} className={`${buttonLook('plain')} mt-2`}>
          The next files
        </Link>
      )}
    </Card>
  );
}

function Shape({ data }: { data: Data }) {
  if (data.shape.length === 0 && data.archive.gaps === 0) return null;
  return (
    <Card title={data.stayedOut === null ? 'How it was shaped' : 'How it was found'}>
      <ul className="grid gap-0.5 text-[13px]">
        {data.shape.map((line) => (
          <li key={line}>{line}</li>
        ))}
        {data.archive.gaps > 0 && (
          <li className="text-caution">
            {counted(data.archive.gaps, 'file')}{' '}
            {data.stayedOut === null ? 'could not go in: its README names them.' : 'stayed out:'}
          </li>
        )}
        {data.stayedOut?.slice(0, 20).map(({ path, why }) => (
          <li key={`${path} ${why}`}>
            <span className="path break-all">{path}</span>
            <span className="block text-ink-2">{why}</span>
          </li>
        ))}
        {data.stayedOut !== null && data.stayedOut.length > 20 && <li>The others are in its receipt.</li>}
      </ul>
    </Card>
  );
}

function Receipts({ data: { receipts } }: { data: Data }) {
  const lens = useLens();
  if (receipts.length === 0) return null;
  return (
    <Card title="What was done with it">
      <ul className="rows text-[13px]">
        {receipts.map((receipt) => (
          <li key={receipt.id} className="py-1">
            <Link to={lens(`/ledger/${receipt.id}`)} className="block hover:underline">
              {receipt.action}
              <span className="block text-ink-2">
                {exactTime(receipt.atMs)}, {receipt.who}
              </span>
            </Link>
          </li>
        ))}
      </ul>
    </Card>
  );
}
