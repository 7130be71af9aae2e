// Files that are the same: which of two may go, which stays, and turning that round.
import { useState } from 'react';
import { Link, useFetcher } from 'react-router';
import type { Route } from './+types/reclaim';
import { counted, size } from '#core/wording/amounts.ts';
import type { Answer } from '../lib/answer';
import { useLens } from '../shell/links';
import { Checkbox } from '../ui/checkbox';
import { Button, Card, Said } from '../ui/parts';
import { Table } from '../ui/table';

type Pair = Route.ComponentProps['loaderData']['pairs'][number];

export function Pairs({ pairs }: { pairs: readonly Pair[] }) {
  const [turned, setTurned] = useState<ReadonlySet<number>>(new Set());
  const fetcher = useFetcher<Answer>();
  const chosen = pairs.filter((pair) => turned.has(pair.goes.fileId));
  const toggle = (id: number, on: boolean) =>
    setTurned((now) => new Set(on ? [...now, id] : [...now].filter((one) => one !== id)));
  return (
    <Card title="Which one stays">
      <fetcher.Form method="post" className="mb-2 flex flex-wrap items-center gap-3">
        <input type="hidden" name="intent" value="keep other" />
        <input
          type="hidden"
          name="pairs"
          value={chosen.map((pair) => `${pair.stays.fileId}-${pair.goes.fileId}`).join(',')}
        />
        <Button type="submit" disabled={chosen.length === 0 || fetcher.state !== 'idle'}>
          {chosen.length === 0 ? 'Turn round' : `Turn round ${counted(chosen.length, 'pair')}: the other one stays`}
        </Button>
        <p className="min-w-0 flex-1 text-[13px] text-ink-2">
          Then what stays now is set aside, and documents that name it get a new version that names the other.
        </p>
      </fetcher.Form>
      <Said answer={fetcher.data} />
      <Table
        label="Files that are the same"
        rows={pairs}
        rowKey={(pair) => pair.goes.fileId}
        rowHeight={46}
        height="320px"
        columns={[
          {
            key: 'turn',
            title: <span className="sr-only">Turn round</span>,
            width: 26,
            cell: (pair) => (
              <Checkbox
                checked={turned.has(pair.goes.fileId)}
                onChange={(on) => toggle(pair.goes.fileId, on)}
                label={`Turn round ${pair.goes.path}`}
              />
            ),
          },
          { key: 'goes', title: 'May go', sort: (pair) => pair.goes.path, cell: (pair) => <Place of={pair.goes} /> },
          { key: 'stays', title: 'Stays', sort: (pair) => pair.stays.path, cell: (pair) => <Place of={pair.stays} /> },
          {
            key: 'size',
            title: 'Size',
            number: true,
            sort: (pair) => pair.bytes,
            cell: (pair) => <b>{size(pair.bytes)}</b>,
          },
        ]}
      />
    </Card>
  );
}

function Place({ of: { fileId, volume, path } }: { of: Pair['goes'] }) {
  const lens = useLens();
  return (
    <Link to={lens(`/space?file=${fileId}`)} className="block max-w-96 hover:underline" title={`${volume} / ${path}`}>
      <span className="path block truncate">{path}</span>
      <span className="block text-[13px] text-ink-2">{volume}</span>
    </Link>
  );
}
