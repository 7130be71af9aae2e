// Projects: every one with its state, size, and what of its media is found.
import { Link } from 'react-router';
import type { Route } from './+types/projects';
import { count, exactTime, size } from '#core/say/amounts.ts';
import { stateSince } from '#core/say/lenses.ts';
import { useFrame } from '../shell/frame';
import { useLens } from '../shell/links';
import { Chip, Empty, Sentence } from '../ui/parts';
import { Table } from '../ui/table';

export { loader } from './projects.server.ts';

type Row = Route.ComponentProps['loaderData']['projects'][number];

export default function Projects({ loaderData }: Route.ComponentProps) {
  const lens = useLens();
  const { nowMs } = useFrame();
  return (
    <div className="grid gap-4">
      <Sentence>{loaderData.sentence}</Sentence>
      <div className="card py-1">
        {loaderData.projects.length === 0 ? (
          <Empty>Read the volumes, and projects are found by their documents.</Empty>
        ) : (
          <Table<Row>
            label="Projects"
            rows={loaderData.projects}
            rowKey={(row) => row.projectId}
            first={{ by: 'size', down: true }}
            columns={[
              {
                key: 'name',
                title: 'Project',
                sort: (row) => row.name.toLowerCase(),
                cell: (row) => (
                  <Link
                    to={lens(`/projects/${row.projectId}`)}
                    className="block max-w-96 truncate font-medium hover:underline"
                    title={row.name}
                  >
                    {row.name}
                  </Link>
                ),
              },
              {
                key: 'state',
                title: 'State',
                sort: (row) => row.state,
                cell: (row) => (
                  <span title={exactTime(row.stateSince.getTime())}>
                    {stateSince(row.state, row.stateSince.getTime(), nowMs)}
                  </span>
                ),
              },
              { key: 'files', title: 'Files', number: true, sort: (row) => row.files, cell: (row) => count(row.files) },
              {
                key: 'size',
                title: 'Size',
                number: true,
                sort: (row) => row.bytes,
                cell: (row) => <b>{size(row.bytes)}</b>,
              },
              {
                key: 'unused',
                title: 'Unused',
                number: true,
                sort: (row) => row.unusedBytes,
                cell: (row) => size(row.unusedBytes),
              },
              {
                key: 'found',
                title: 'Media found',
                number: true,
                sort: (row) => row.missing,
                cell: (row) => (
                  <>
                    {count(row.media - row.missing)} <span className="text-ink-2">of {count(row.media)}</span>
                  </>
                ),
              },
              {
                key: 'note',
                title: 'To know',
                cell: (row) =>
                  row.missing > 0 ? (
                    <Chip tone="loss">{row.missing} missing</Chip>
                  ) : row.archived ? (
                    <Chip tone="ok">archived</Chip>
                  ) : row.state === 'delivered' && row.bytes > 0 ? (
                    <Chip tone="caution">left behind</Chip>
                  ) : null,
              },
            ]}
          />
        )}
      </div>
    </div>
  );
}
