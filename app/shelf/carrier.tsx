// One carrier: what it holds, how sure that is, where it is and who has it, and what became of it.
import { carrierForm } from '#contract/forms.ts';
import { isoDay } from '#core/house-time.ts';
import { Link, useFetcher } from 'react-router';
import type { Route } from './+types/carrier';
import { ago, count, counted, day, duration, exactTime, size } from '#core/wording/amounts.ts';
import { Jar } from '../charts/jar';
import type { Answer } from '../lib/answer';
import { useLens } from '../shell/links';
import { Form } from '../ui/form';
import { Button, buttonLook, Card, Chip, Empty, Field, inputLook, Said, Sentence } from '../ui/parts';
import { type Column, Table } from '../ui/table';
import { Select } from '../ui/select';
import { Code } from './code';

export { loader, action } from './carrier.server.ts';

type Data = Route.ComponentProps['loaderData'];
type Held = Data['carrier']['holds'][number];

export default function CarrierPage({ loaderData: data }: Route.ComponentProps) {
  const lens = useLens();
  const { carrier, label } = data;
  // Held here: the form is made anew once it is saved, and its answer must outlive that.
  const fetcher = useFetcher<Answer>();
  const takeIn = useFetcher<Answer>();
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex items-end justify-between slim:flex-wrap gap-4">
        <Sentence
          above={
            <Link to={lens('/shelf')} className="hover:underline">
              Shelf
            </Link>
          }
        >
          {data.sentence}
        </Sentence>
        <Link to={lens(`/shelf/labels?c=${carrier.carrierId}`)} className={buttonLook('plain')}>
          Print its label
        </Link>
      </div>
      <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1fr)_320px] items-start gap-4">
        <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
          <Holds data={data} />
          <TakeIn key={data.carrier.strangers.join('/')} data={data} fetcher={takeIn} />
          <Moves data={data} />
        </div>
        <div className="grid gap-4">
          <Facts data={data} />
          <Whereabouts
            key={JSON.stringify([carrier.place, carrier.lent, carrier.sinceMs])}
            carrier={carrier}
            fetcher={fetcher}
          />
          <Card title="Label">
            <div className="flex items-center gap-3">
              <Code code={label} name={carrier.name} className="size-24 rounded-md" />
              <p className="text-[13px] text-ink-2">
                Scanned into the search field, or typed there, its number leads to this page.
              </p>
            </div>
          </Card>
        </div>
      </div>
    </div>
  );
}

function Holds({ data: { carrier, others, nowMs } }: { data: Data }) {
  const lens = useLens();
  const columns: Column<Held>[] = [
    {
      key: 'archive',
      title: 'Archive',
      sort: (held) => held.name,
      cell: (held) => (
        <Link to={lens(`/shelf/${held.archiveId}`)} className="block max-w-72 hover:underline">
          <span className="block truncate font-medium">{held.name}</span>
          <span className="path block truncate text-ink-2">{held.folder}</span>
        </Link>
      ),
    },
    {
      key: 'state',
      title: 'How sure',
      sort: (held) => held.readBackMs ?? 0,
      cell: (held) =>
        held.state === 'damaged' ? (
          <Chip tone="loss">damaged</Chip>
        ) : held.state === 'writing' || held.state === 'replaced' ? (
          <Chip>{held.state}</Chip>
        ) : (
          <Chip tone="ok" title={held.readBackMs === null ? undefined : exactTime(held.readBackMs)}>
            {held.readBackMs === null ? 'good' : `read back ${ago(held.readBackMs, nowMs)}`}
          </Chip>
        ),
    },
    { key: 'files', title: 'Files', number: true, sort: (held) => held.files, cell: (held) => count(held.files) },
    { key: 'size', title: 'Size', number: true, sort: (held) => held.bytes, cell: (held) => <b>{size(held.bytes)}</b> },
  ];
  return (
    <Card title="What it holds">
      {carrier.holds.length === 0 ? (
        <Empty>Nothing is written on it yet.</Empty>
      ) : (
        <Table
          label="What it holds"
          rows={carrier.holds}
          rowKey={(held) => held.copyPartId}
          rowHeight={46}
          columns={columns}
        />
      )}
      {carrier.holds.length > 0 && others.length > 0 && <CopyAll others={others} />}
    </Card>
  );
}

/** What others wrote on it, and nobody has looked into yet. */
function TakeIn({ data: { carrier }, fetcher }: { data: Data; fetcher: ReturnType<typeof useFetcher<Answer>> }) {
  const { strangers } = carrier;
  return (
    <Card
      title={
        strangers.length === 0
          ? 'Take in what others wrote'
          : `Not in the catalogue: ${counted(strangers.length, 'folder')}`
      }
    >
      <Form fetcher={fetcher} schema={carrierForm} method="post" className="grid gap-2.5">
        <input type="hidden" name="intent" value="take in" />
        <div className="grid grid-cols-[minmax(0,3fr)_minmax(0,2fr)] gap-2.5">
          <Field label="Folder on the carrier">
            <input
              name="folder"
              list="strangers"
              className={`${inputLook} path`}
              defaultValue={strangers[0] ?? ''}
              required
              maxLength={4000}
            />
          </Field>
          <Field label="Project">
            <input name="name" className={inputLook} maxLength={250} placeholder="as the folder" />
          </Field>
          <Field label="Client">
            <input name="client" className={inputLook} maxLength={200} />
          </Field>
          <Field label="Year">
            <input name="year" className={inputLook} inputMode="numeric" maxLength={4} />
          </Field>
        </div>
        <datalist id="strangers">
          {strangers.map((name) => (
            <option key={name} value={name} />
          ))}
        </datalist>
        <p className="text-[13px] text-ink-2">
          It becomes an archive where it lies. Every file is read once and compared with the checksums that came with
          it; nothing is written on the carrier.
        </p>
        <Said answer={fetcher.data} />
        <div>
          <Button type="submit" disabled={fetcher.state !== 'idle'}>
            Take it in
          </Button>
        </div>
      </Form>
    </Card>
  );
}

/** To a fresh carrier, before this one gets old or is needed elsewhere. */
function CopyAll({ others }: { others: Data['others'] }) {
  const fetcher = useFetcher<Answer>();
  return (
    <Form fetcher={fetcher} schema={carrierForm} method="post" className="mt-3 grid gap-2">
      <input type="hidden" name="intent" value="copy all" />
      <div className="flex flex-wrap items-center gap-2">
        <Select name="to" aria-label="Copy all of it to" className={`${inputLook} !w-64`}>
          {others.map((other) => (
            <option key={other.carrierId} value={other.carrierId}>
              {other.name}, {size(other.freeBytes)} free
            </option>
          ))}
        </Select>
        <Button type="submit" disabled={fetcher.state !== 'idle'}>
          Add copies of all of it to the plan
        </Button>
      </div>
      <p className="text-[13px] text-ink-2">
        Each is read from a good copy, proven while it is copied, and read back. What is here stays.
      </p>
      <Said answer={fetcher.data} />
    </Form>
  );
}

function Moves({ data: { carrier } }: { data: Data }) {
  const lens = useLens();
  return (
    <Card title="Where it was">
      {carrier.moves.length === 0 ? (
        <Empty>It was not moved since it was registered.</Empty>
      ) : (
        <ul className="rows text-[13px]">
          {carrier.moves.map((move) => (
            <li key={move.id} className="py-1">
              <Link to={lens(`/ledger/${move.id}`)} className="block hover:underline">
                {move.title}
                <span className="block text-ink-2">
                  {exactTime(move.atMs)}, {move.who}
                </span>
              </Link>
            </li>
          ))}
        </ul>
      )}
    </Card>
  );
}

function Facts({ data: { carrier, nowMs } }: { data: Data }) {
  const rows: [string, React.ReactNode][] = [
    ['Is', carrier.type],
    ['Free', `${size(carrier.freeBytes)} of ${size(carrier.capacityBytes)}`],
    [
      'Seen',
      carrier.state === 'reachable'
        ? 'in reach now'
        : carrier.seenMs === null
          ? 'never'
          : `last ${ago(carrier.seenMs, nowMs)}`,
    ],
    ['In use', carrier.sinceMs === null ? 'nobody said since when' : `since ${day(carrier.sinceMs)}`],
    ...(carrier.whereNow === null ? [] : [['Is in', carrier.whereNow] as [string, string]]),
    ...(carrier.passes === null ? [] : [['Loaded', counted(carrier.passes, 'time')] as [string, string]]),
    ...(carrier.waitSeconds > 0
      ? [['To read', `${duration(carrier.waitSeconds)} before the first byte`] as [string, string]]
      : []),
    ...(carrier.costPerGb > 0 ? [['Costs', `${carrier.costPerGb} a GB brought back`] as [string, string]] : []),
    ['Written', counted(carrier.written, 'time')],
    ['Read', counted(carrier.read, 'time')],
    [
      'Errors',
      carrier.errors === 0 ? 'none seen' : <span className="text-loss">{counted(carrier.errors, 'file')} damaged</span>,
    ],
  ];
  return (
    <Card title={<span className="path">{carrier.name}</span>}>
      <div className="flex gap-4">
        <Jar name={carrier.name} layers={carrier.layers} capacity={carrier.capacityBytes} />
        <dl className="grid grid-cols-[64px_minmax(0,1fr)] content-start gap-y-0.5 text-[13px]">
          {rows.map(([name, value]) => (
            <div key={name} className="contents">
              <dt className="text-ink-2">{name}</dt>
              <dd>{value}</dd>
            </div>
          ))}
        </dl>
      </div>
    </Card>
  );
}

const dayField = (ms: number | null | undefined) => (ms ? isoDay(ms) : '');

interface WhereaboutsProps {
  carrier: Data['carrier'];
  fetcher: ReturnType<typeof useFetcher<Answer>>;
}

function Whereabouts({ carrier, fetcher }: WhereaboutsProps) {
  return (
    <Card title="Where it is">
      <Form fetcher={fetcher} schema={carrierForm} method="post" className="grid gap-2.5">
        <input type="hidden" name="intent" value="move" />
        <Field label="Kept in">
          <input name="place" className={inputLook} defaultValue={carrier.place} required maxLength={120} />
        </Field>
        <div className="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-2.5">
          <Field label="Lent to">
            <input
              name="lentTo"
              className={inputLook}
              defaultValue={carrier.lent?.to}
              maxLength={120}
              placeholder="nobody"
            />
          </Field>
          <Field label="Due back on">
            <input name="dueAt" type="date" className={inputLook} defaultValue={dayField(carrier.lent?.dueMs)} />
          </Field>
        </div>
        <Field label="In use since">
          <input name="since" type="date" className={inputLook} defaultValue={dayField(carrier.sinceMs)} />
        </Field>
        <Said answer={fetcher.data} />
        <div>
          <Button type="submit" disabled={fetcher.state !== 'idle'}>
            Save
          </Button>
        </div>
      </Form>
    </Card>
  );
}
