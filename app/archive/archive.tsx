// Archive: which projects are ready to leave, and how far each has come.
import { Link } from 'react-router';
import type { Route } from './+types/archive';
import { exactTime, size } from '#core/wording/amounts.ts';
import { stateSince } from '#core/wording/lenses.ts';
import { useFrame } from '../shell/use-frame';
import { useLens } from '../shell/links';
import { buttonLook, Chip, Empty, Sentence } from '../ui/parts';
import { type Column, Table } from '../ui/table';

export { loader } from './archive.server.ts';

type Row = Route.ComponentProps['loaderData']['rows'][number];

export default function Archive({ loaderData }: Route.ComponentProps) {
  const { nowMs } = useFrame();
  const lens = useLens();
  return (
    <div className="grid gap-4">
      <Sentence>{loaderData.sentence}</Sentence>
      <div className="card py-1">
        {loaderData.rows.length === 0 ? (
          <Empty>No project is known yet. Read the volumes first.</Empty>
        ) : (
          <Table<Row>
            label="Projects to archive"
            rows={loaderData.rows}
            rowKey={(row) => row.projectId}
            rowHeight={42}
            columns={columnsOf(nowMs, lens)}
            actions={(row) => [
              { name: 'Archive it', letter: 'a', to: lens(`/archive/${row.projectId}`) },
              { name: 'Hand it over', letter: 'h', to: lens(`/archive/${row.projectId}?for=hand-over`) },
              { name: 'Open the project', letter: 'o', to: lens(`/projects/${row.projectId}`) },
              { name: 'What of it can go', letter: 'f', to: lens(`/reclaim?project=${row.projectId}&work=1`) },
            ]}
          />
        )}
      </div>
    </div>
  );
}

function Sealed({ archive }: { archive: Row['archives'][number] }) {
  return (
    <span className="mr-2">
      <Chip tone={archive.state === 'sealed' ? 'ok' : 'plain'}>
        {archive.state === 'sealed' ? `sealed on ${archive.carriers.join(', ')}` : 'writing'}
      </Chip>
      {archive.short !== null && (
        <>
          {' '}
          <Chip tone="caution">{archive.short}</Chip>
        </>
      )}
    </span>
  );
}

const columnsOf = (nowMs: number, lens: ReturnType<typeof useLens>): Column<Row>[] => [
  {
    key: 'name',
    title: 'Project',
    sort: (row) => row.name.toLowerCase(),
    cell: (row) => (
      <span className="block max-w-80 truncate font-medium" title={row.name}>
        {row.name}
      </span>
    ),
  },
  {
    key: 'state',
    title: 'State',
    sort: (row) => row.state,
    cell: (row) => (
      <span title={exactTime(row.stateSince.getTime())}>{stateSince(row.state, row.stateSince.getTime(), nowMs)}</span>
    ),
  },
  {
    key: 'size',
    title: 'On disk',
    number: true,
    sort: (row) => row.bytes,
    cell: (row) => <b>{size(row.bytes)}</b>,
  },
  {
    key: 'archives',
    title: 'Archives',
    cell: (row) =>
      row.archives.length === 0 ? (
        <span className="text-ink-2">none</span>
      ) : (
        row.archives.map((archive, i) => <Sealed key={i} archive={archive} />)
      ),
  },
  {
    key: 'go',
    title: <span className="sr-only">Next</span>,
    number: true,
    cell: (row) => (
      <Link
        to={lens(`/archive/${row.projectId}`)}
        className={buttonLook(row.state === 'delivered' && row.archives.length === 0 ? 'first' : 'plain')}
        aria-label={`Shape an archive of ${row.name}`}
      >
        Shape an archive
      </Link>
    ),
  },
];
