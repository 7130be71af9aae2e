// One step of the plan before it is run: every file of it, to be looked through, left out, or taken along as a table.
import { useState } from 'react';
import { Form, Link, useFetcher } from 'react-router';
import type { Route } from './+types/step';
import { counted, size } from '#core/wording/amounts.ts';
import type { Answer } from '../lib/answer';
import { useTo } from '../shell/links';
import { Checkbox } from '../ui/checkbox';
import { Button, buttonLook, Card, Empty, inputLook, Said, Sentence } from '../ui/parts';
import { type Column, Table } from '../ui/table';

export { loader } from './step.server.ts';

type Data = NonNullable<Route.ComponentProps['loaderData']>;
type Item = Data['items'][number];

export default function Step({ loaderData: data }: Route.ComponentProps) {
  if (data === null)
    return (
      <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
        <Sentence>That step is not in the plan any more.</Sentence>
        <div className="card">
          <Empty>
            It was run, or taken out. What was done is in the{' '}
            <Link to="/ledger" className="text-accent underline">
              ledger
            </Link>
            , file by file.
          </Empty>
        </div>
      </div>
    );
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Sentence
        above={`In the plan: ${counted(data.files, 'file')}, ${size(data.bytes)}. Nothing of it was touched yet`}
      >
        {data.title}
      </Sentence>
      <Filter data={data} />
      <Items key={`${data.about} ${data.text}`} data={data} />
    </div>
  );
}

function Filter({ data }: { data: Data }) {
  const to = useTo();
  return (
    <div className="flex flex-wrap items-center gap-2">
      <Form className="flex items-center gap-2" key={data.text}>
        <input
          name="text"
          defaultValue={data.text}
          aria-label="Part of a path"
          placeholder="Part of a path"
          className={`${inputLook} w-64`}
        />
        {data.about && <input type="hidden" name="about" value={data.about} />}
        <Button type="submit">Show</Button>
      </Form>
      {data.findings.map(({ about, what }) => (
        <Link
          key={about}
          to={to({ about: about === data.about ? null : about, after: null })}
          aria-current={about === data.about ? 'true' : undefined}
          className={buttonLook(about === data.about ? 'first' : 'plain')}
        >
          {what}
        </Link>
      ))}
      {(data.text !== '' || data.about !== null) && (
        <Link to={to({ text: null, about: null, after: null })} className="text-accent hover:underline">
          every file
        </Link>
      )}
    </div>
  );
}

function Items({ data }: { data: Data }) {
  const fetcher = useFetcher<Answer>();
  const to = useTo();
  const [chosen, setChosen] = useState<ReadonlySet<number>>(new Set());
  const there = new Set(data.items.map((item) => item.id));
  const ids = [...chosen].filter((id) => there.has(id));
  const bytes = data.items.reduce((sum, item) => (chosen.has(item.id) ? sum + item.sizeBytes : sum), 0);
  const isNarrowed = data.text !== '' || data.about !== null;
  const toggle = (id: number, on: boolean) =>
    setChosen((now) => new Set(on ? [...now, id] : [...now].filter((one) => one !== id)));
  return (
    <Card
      title={isNarrowed ? `${counted(data.found.files, 'file')} of it, ${size(data.found.bytes)}` : 'Every file'}
      aside={
        <a href={`/step/${data.stepId}/items`} download className="text-accent hover:underline">
          CSV
        </a>
      }
    >
      <fetcher.Form method="post" action="/plan" className="mb-2 flex flex-wrap items-center gap-2">
        <input type="hidden" name="intent" value="leave out" />
        <input type="hidden" name="stepId" value={data.stepId} />
        {ids.length > 0 && <input type="hidden" name="ids" value={ids.join(',')} />}
        {ids.length === 0 && data.text !== '' && <input type="hidden" name="text" value={data.text} />}
        {ids.length === 0 && data.about !== null && <input type="hidden" name="about" value={data.about} />}
        <Button type="submit" disabled={fetcher.state !== 'idle' || (ids.length === 0 && !isNarrowed)}>
          {ids.length > 0
            ? `Leave out ${counted(ids.length, 'file')}, ${size(bytes)}`
            : isNarrowed
              ? `Leave out all ${counted(data.found.files, 'file')}, ${size(data.found.bytes)}`
              : 'Leave out what is chosen'}
        </Button>
        <span className="text-[13px] text-ink-2">What is left out stays where it is.</span>
      </fetcher.Form>
      <Said answer={fetcher.data} />
      {data.items.length === 0 ? (
        <Empty>No file of the step is like that.</Empty>
      ) : (
        <Table
          label="Files of the step"
          rows={data.items}
          rowKey={(item) => item.id}
          height="calc(100vh - 320px)"
          columns={columnsOf(chosen, toggle)}
        />
      )}
      {data.more !== null && (
        <Link to={to({ after: String(data.more) })} className={`${buttonLook('plain')} mt-2`}>
          The next files
        </Link>
      )}
    </Card>
  );
}

const columnsOf = (chosen: ReadonlySet<number>, toggle: (id: number, on: boolean) => void): Column<Item>[] => [
  {
    key: 'choose',
    title: <span className="sr-only">Chosen</span>,
    width: 26,
    cell: (item) => (
      <Checkbox checked={chosen.has(item.id)} onChange={(on) => toggle(item.id, on)} label={`Choose ${item.path}`} />
    ),
  },
  {
    key: 'path',
    title: 'From',
    sort: (item) => item.path,
    cell: (item) => (
      <span className="block max-w-[30rem]" title={`${item.volume ?? ''} / ${item.path}`}>
        <span className="path block truncate">{item.path}</span>
        {item.targetPath && (
          <span className="path block truncate text-[13px] text-ink-2" title={item.targetPath}>
            to {item.targetPath}
          </span>
        )}
      </span>
    ),
  },
  { key: 'volume', title: 'Volume', sort: (item) => item.volume ?? '', cell: (item) => item.volume ?? '' },
  {
    key: 'size',
    title: 'Size',
    number: true,
    sort: (item) => item.sizeBytes,
    cell: (item) => <b>{size(item.sizeBytes)}</b>,
  },
];
