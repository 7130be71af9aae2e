// Caches of the reclaim lens: by folder, age and size; what goes is chosen here and added to the plan, with the effect on each volume in sight.
import { stageCachesForm } from '#contract/forms.ts';
import clsx from 'clsx';
import { useMemo, useState } from 'react';
import { Link, useFetcher } from 'react-router';
import type { Route } from './+types/caches';
import type { VolumeId } from '#core/model.ts';
import { AGE_CHOICES } from '#core/reclaim/cuts.ts';
import { ago, count, exactTime, size } from '#core/wording/amounts.ts';
import { reclaimSentence } from '#core/wording/lenses.ts';
import { AgeSizePlot } from '../charts/age-size-plot';
import type { Answer } from '../lib/answer';
import { useFrame } from '../shell/use-frame';
import { Form } from '../ui/form';
import { BeforeAfter, Button, Card, Chip, Empty, LevelMark, Said, Sentence } from '../ui/parts';
import { useLens, useTo } from '../shell/links';
import { Checkbox } from '../ui/checkbox';
import { Slider } from '../ui/slider';
import { type Column, Table } from '../ui/table';
import { Scroll } from '../ui/scroll';

export { loader, action } from './caches.server.ts';

type Row = Route.ComponentProps['loaderData']['folders'][number];

export default function Caches({ loaderData }: Route.ComponentProps) {
  const { folders, age, cut, nowMs } = loaderData;
  const lens = useLens();
  const [left, setLeft] = useState<ReadonlySet<number>>(new Set());
  const [leastMegabytes, setLeast] = useState(0);
  const fetcher = useFetcher<Answer>();
  const fits = (row: Row) => row.files > 0 && row.bytes >= leastMegabytes * 1e6;
  const chosen = folders.filter((row) => fits(row) && !left.has(row.folderId));
  const sums = useMemo(() => sumsOf(folders, chosen), [folders, chosen]);
  const toggle = (row: Row, on: boolean) =>
    setLeft((now) => new Set(on ? [...now].filter((id) => id !== row.folderId) : [...now, row.folderId]));
  return (
    <div className="grid gap-4">
      <div className="flex items-start justify-between slim:flex-wrap gap-4">
        <Sentence
          above={
            <Link to={lens('/reclaim')} className="hover:underline">
              Reclaim
            </Link>
          }
        >
          {reclaimSentence({ chosenBytes: sums.bytes, chosenFiles: sums.files, allBytes: sums.all })}
        </Sentence>
        <AddToPlan cut={cut} chosen={chosen} sums={sums} fetcher={fetcher} />
      </div>
      <Said answer={fetcher.data} />
      <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1fr)_250px] items-start gap-4">
        <Card title="How old against how large" aside="each dot is a folder of caches">
          <AgeSizePlot
            folders={folders}
            nowMs={nowMs}
            age={age}
            leastBytes={leastMegabytes * 1e6}
            chosen={new Set(chosen.map((row) => row.folderId))}
          />
        </Card>
        <div className="grid content-start gap-4">
          <MayGo age={age} byAge={loaderData.byAge} least={leastMegabytes} onLeast={setLeast} />
          <After byVolume={sums.byVolume} />
        </div>
      </div>
      {loaderData.notListedBytes > 0 && <NotListed folders={folders.length} bytes={loaderData.notListedBytes} />}
      <List
        folders={folders}
        chosen={chosen}
        fits={fits}
        toggle={toggle}
        nowMs={nowMs}
        all={(on) => setLeft(on ? new Set() : new Set(folders.map((row) => row.folderId)))}
      />
    </div>
  );
}

interface ChoicesProps {
  age: number;
  /** Bytes that each age would take. */
  byAge: readonly number[];
  least: number;
  onLeast: (megabytes: number) => void;
}

function Choices({ age, byAge, least, onLeast }: ChoicesProps) {
  const to = useTo();
  return (
    <div className="grid gap-3">
      <div>
        <div className="mb-1.5 text-[13px] text-ink-2">Not changed for at least</div>
        <div role="group" aria-label="Age">
          {AGE_CHOICES.map((days, i) => (
            <Link
              key={days}
              to={to({ age: String(days) })}
              preventScrollReset
              replace
              className={clsx(
                'flex justify-between rounded-md px-2 py-1 text-[13px]',
                days === age ? 'bg-accent-wash font-semibold' : 'hover:bg-panel',
              )}
              aria-current={days === age ? 'true' : undefined}
            >
              <span>{days === 0 ? 'any age' : `${days} days`}</span>
              <span>{size(byAge[i]!)}</span>
            </Link>
          ))}
        </div>
      </div>
      <Slider
        words={`Folders of at least ${least === 0 ? 'any size' : size(least * 1e6)}`}
        value={least === 0 ? 0 : Math.round(Math.log10(least) * 2) + 1}
        most={10}
        onChange={(step) => onLeast(step === 0 ? 0 : Math.round(10 ** ((step - 1) / 2)))}
      />
    </div>
  );
}

interface FoldersProps {
  rows: Row[];
  chosen: Row[];
  fits: (row: Row) => boolean;
  toggle: (row: Row, on: boolean) => void;
  all: (on: boolean) => void;
  nowMs: number;
}

function Folders({ rows, chosen, fits, toggle, all, nowMs }: FoldersProps) {
  const ids = new Set(chosen.map((row) => row.folderId));
  const possible = rows.filter(fits).length;
  return (
    <Table<Row>
      label="Folders of caches"
      rows={rows}
      rowKey={(row) => row.folderId}
      first={{ by: 'size', down: true }}
      height="max(200px, calc(100vh - 520px))"
      columns={[
        {
          key: 'chosen',
          title: (
            <Checkbox
              checked={chosen.length === 0 ? false : chosen.length === possible ? true : 'some'}
              onChange={all}
              label="Choose every folder"
            />
          ),
          width: 30,
          cell: (row) => (
            <Checkbox
              checked={ids.has(row.folderId)}
              disabled={!fits(row)}
              onChange={(on) => toggle(row, on)}
              label={`Choose ${row.path}`}
            />
          ),
        },
        ...folderColumns(nowMs),
      ]}
    />
  );
}

const folderColumns = (nowMs: number): Column<Row>[] => [
  {
    key: 'path',
    title: 'Folder',
    sort: (row) => row.path,
    cell: (row) => (
      <span className="path block max-w-80 truncate" title={row.path}>
        {row.path || '(top)'}
      </span>
    ),
  },
  { key: 'volume', title: 'Volume', sort: (row) => row.volume, cell: (row) => row.volume },
  {
    key: 'files',
    title: 'Files',
    number: true,
    sort: (row) => row.files,
    cell: (row) => (row.files === row.allFiles ? count(row.files) : `${count(row.files)} of ${count(row.allFiles)}`),
  },
  { key: 'size', title: 'Goes', number: true, sort: (row) => row.bytes, cell: (row) => <b>{size(row.bytes)}</b> },
  {
    key: 'age',
    title: 'Last changed',
    number: true,
    sort: (row) => row.newestUs,
    cell: (row) => <span title={exactTime(row.newestUs / 1000)}>{ago(row.newestUs / 1000, nowMs)}</span>,
  },
  {
    key: 'again',
    title: 'If it is needed again',
    cell: (row) => (
      <span className="text-ink-2">
        <LevelMark level={0} /> rebuilds itself
        {row.projectState === 'in work' && (
          <>
            {' '}
            <Chip tone="caution">{row.project} in work</Chip>
          </>
        )}
      </span>
    ),
  },
];

function After({ byVolume }: { byVolume: ReadonlyMap<VolumeId, number> }) {
  const { volumes } = useFrame();
  return (
    <Card title="After this">
      {byVolume.size === 0 ? (
        <p className="text-ink-2">Nothing is chosen, so nothing changes.</p>
      ) : (
        <Scroll label="Volumes after this" maxHeight={160}>
          <div className="grid gap-2.5">
            {volumes
              .filter((volume) => byVolume.has(volume.volumeId))
              .map((volume) => (
                <BeforeAfter
                  key={volume.volumeId}
                  name={volume.name}
                  before={volume.usedBytes}
                  after={volume.usedBytes - (byVolume.get(volume.volumeId) ?? 0)}
                  capacity={volume.capacityBytes}
                />
              ))}
          </div>
        </Scroll>
      )}
    </Card>
  );
}

function sumsOf(folders: readonly Row[], chosen: readonly Row[]) {
  const sum = {
    bytes: 0,
    files: 0,
    all: folders.reduce((n, row) => n + row.allBytes, 0),
    byVolume: new Map<VolumeId, number>(),
  };
  for (const row of chosen) {
    sum.bytes += row.bytes;
    sum.files += row.files;
    sum.byVolume.set(row.volumeId, (sum.byVolume.get(row.volumeId) ?? 0) + row.bytes);
  }
  return sum;
}

interface AddProps {
  cut: number;
  chosen: readonly Row[];
  sums: ReturnType<typeof sumsOf>;
  fetcher: ReturnType<typeof useFetcher<Answer>>;
}

function AddToPlan({ cut, chosen, sums, fetcher }: AddProps) {
  return (
    <Form fetcher={fetcher} schema={stageCachesForm} method="post" className="shrink-0">
      <input type="hidden" name="intent" value="stage" />
      <input type="hidden" name="cutDay" value={cut} />
      <input type="hidden" name="folders" value={chosen.map((row) => row.folderId).join(',')} />
      <Button tone="first" type="submit" disabled={sums.files === 0 || fetcher.state !== 'idle'}>
        Add {size(sums.bytes)} to the plan
      </Button>
    </Form>
  );
}

function List({ folders, ...rest }: Omit<FoldersProps, 'rows'> & { folders: Row[] }) {
  return (
    <div className="card py-1">
      {folders.length === 0 ? (
        <Empty>No caches lie on what is chosen in the rack.</Empty>
      ) : (
        <Folders rows={folders} {...rest} />
      )}
    </div>
  );
}

function NotListed({ folders, bytes }: { folders: number; bytes: number }) {
  return (
    <p className="text-[13px] text-ink-2">
      The {count(folders)} folders with most to gain are listed; {size(bytes)} more of caches lie in smaller ones.
      Narrow the rack to see them.
    </p>
  );
}

function MayGo(choices: ChoicesProps) {
  const lens = useLens();
  return (
    <Card
      title="What may go"
      aside={
        <Link to={lens('/reclaim/rules')} className="text-accent hover:underline">
          rules
        </Link>
      }
    >
      <Choices {...choices} />
    </Card>
  );
}
