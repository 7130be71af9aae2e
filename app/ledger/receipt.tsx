// One receipt: what was done, by whom, and what became of every file.
import { Link } from 'react-router';
import type { Route } from './+types/receipt';
import { count, counted, exactTime, size } from '#core/wording/amounts.ts';
import { useLens, useTo } from '../shell/links';
import { buttonLook, Card, Chip, Empty, Sentence, Undo } from '../ui/parts';
import { type Column, Table } from '../ui/table';

export { action, loader } from './receipt.server.ts';

type Data = Route.ComponentProps['loaderData'];
type Item = Data['items'][number];

export default function Receipt({ loaderData: data }: Route.ComponentProps) {
  const { receipt } = data;
  const lens = useLens();
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Sentence
        above={
          <Link to={lens('/ledger')} className="hover:underline">
            Ledger
          </Link>
        }
      >
        {receipt.title}
      </Sentence>
      <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1fr)_300px] items-start gap-4">
        {receipt.stepId === null ? <StayedOut data={data} /> : <Items data={data} stepId={receipt.stepId} />}
        <Facts data={data} />
      </div>
    </div>
  );
}

/** What was there and is not in it, where no plan had it as items. */
function StayedOut({ data: { receipt, stayedOut } }: { data: Data }) {
  if (stayedOut.length === 0)
    return (
      <div className="card">
        <Empty>{receipt.files === 0 ? 'It is about no files.' : 'Nothing of it stayed out.'}</Empty>
      </div>
    );
  return (
    <Card title={`What stayed out: ${counted(receipt.held, 'file')}`}>
      <ul className="rows">
        {stayedOut.map(({ path, why }) => (
          <li key={`${path} ${why}`} className="py-1">
            <span className="path break-all">{path}</span>
            <span className="block text-[13px] text-ink-2">{why}</span>
          </li>
        ))}
      </ul>
    </Card>
  );
}

function Facts({ data }: { data: Data }) {
  const { receipt, held, trouble, reason, notReached, thereAlready, isBroken, freed, newVersions, notRelinked } = data;
  const rows: [string, React.ReactNode][] = [
    ['Done', receipt.action],
    ['When', exactTime(receipt.at.getTime())],
    ['By', receipt.who],
    ...(reason ? [['Why', reason] as [string, React.ReactNode]] : []),
    ['Files', `${count(receipt.files)}, ${size(receipt.bytes)}`],
    ...freed.map((words, i): [string, React.ReactNode] => [i === 0 ? 'Freed' : '', words]),
    ...held.map((one): [string, React.ReactNode] => ['Left', `${counted(one.files, 'file')}: ${one.words}`]),
    ...(newVersions.length > 0 ? [['New version', newVersions.join(', ')] as [string, React.ReactNode]] : []),
    ...notRelinked.map((one): [string, React.ReactNode] => [
      'Not written',
      `${one}: it names the places it named before`,
    ]),
    ...(thereAlready > 0
      ? [['There already', `${counted(thereAlready, 'file')}, each read as it was sealed`] as [string, React.ReactNode]]
      : []),
    ...(notReached > 0 ? [['Left', `${counted(notReached, 'file')} not reached`] as [string, React.ReactNode]] : []),
    ...(trouble ? [['Trouble', <span className="text-loss">{trouble}</span>] as [string, React.ReactNode]] : []),
  ];
  return (
    <Card title={`Receipt ${receipt.id}`} aside={isBroken && <Chip tone="loss">changed from outside</Chip>}>
      <dl className="grid grid-cols-[84px_minmax(0,1fr)] gap-y-1">
        {rows.map(([name, value], i) => (
          <div key={i} className="contents">
            <dt className="text-ink-2">{name}</dt>
            <dd>{value}</dd>
          </div>
        ))}
        {data.canBeUndone && (
          <>
            <dt className="text-ink-2">Undo</dt>
            <dd>
              <Undo receiptId={receipt.id} />
            </dd>
          </>
        )}
        {receipt.stepId !== null && (
          <>
            <dt className="text-ink-2">SHA-256</dt>
            <dd className="path text-[13px] break-all text-ink-2">{receipt.itemsSha256}</dd>
          </>
        )}
      </dl>
    </Card>
  );
}

function Items({ data, stepId }: { data: Data; stepId: number }) {
  const to = useTo();
  const { receipt, items, heldOnly, more } = data;
  return (
    <Card
      title={heldOnly ? 'What was left' : 'Every file'}
      aside={
        <span className="flex gap-3">
          {receipt.held > 0 && (
            <Link to={to({ show: heldOnly ? null : 'held', after: null })} className="text-accent hover:underline">
              {heldOnly ? 'every file' : 'what was left'}
            </Link>
          )}
          <a href={`/step/${stepId}/items`} download className="text-accent hover:underline">
            CSV
          </a>
        </span>
      }
    >
      <Table
        label="Files of this receipt"
        rows={items}
        rowKey={(item) => item.id}
        height="calc(100vh - 260px)"
        columns={COLUMNS}
      />
      {more !== null && (
        <Link to={to({ after: String(more) })} className={`${buttonLook('plain')} mt-2`}>
          The next files
        </Link>
      )}
    </Card>
  );
}

const STATE_WORDS: Record<Item['state'], string> = {
  waiting: 'waiting',
  started: 'begun',
  taken: 'begun',
  done: 'done',
  held: 'left',
};

const COLUMNS: Column<Item>[] = [
  {
    key: 'path',
    title: 'File',
    sort: (item) => item.path,
    cell: (item) => (
      <span className="block max-w-[26rem]" title={`${item.volume ?? ''} / ${item.path}`}>
        <span className="path block truncate">{item.path}</span>
        {item.targetPath && <span className="path block truncate text-[13px] text-ink-2">{item.targetPath}</span>}
      </span>
    ),
  },
  { key: 'volume', title: 'Volume', sort: (item) => item.volume ?? '', cell: (item) => item.volume ?? '' },
  {
    key: 'state',
    title: 'Outcome',
    sort: (item) => item.state,
    cell: (item) => (
      <span className="block max-w-56 truncate" title={item.detail ?? undefined}>
        <Chip tone={item.state === 'done' ? 'ok' : item.state === 'held' ? 'caution' : 'plain'}>
          {STATE_WORDS[item.state]}
        </Chip>{' '}
        {item.why}
      </span>
    ),
  },
  {
    key: 'size',
    title: 'Size',
    number: true,
    sort: (item) => item.sizeBytes,
    cell: (item) => <b>{size(item.sizeBytes)}</b>,
  },
];
