// Lines that may go, to be ticked: the files of one folder, project, group and level each. Sums and the effect on each volume
// follow every tick.
import { useMemo, useState } from 'react';
import { Link, useFetcher } from 'react-router';
import { LEVEL_WORDS } from '#core/model.ts';
import { bytesByAge, type Points, pointsOf, within } from '#core/reclaim/box.ts';
import { isForGood } from '#core/reclaim/worth.ts';
import { ago, count, counted, duration, size } from '#core/wording/amounts.ts';
import { GROUP_WORDS, ONE_VOLUME, REASON_WORDS } from '#core/wording/reclaim.ts';
import { ChoosingPlot } from '../charts/choosing-plot';
import { copyText } from '../lib/copy';
import type { RowAction } from '../ui/menu';
import type { Answer } from '../lib/answer';
import { useLens } from '../shell/links';
import { useFrame } from '../shell/use-frame';
import { Checkbox } from '../ui/checkbox';
import { BeforeAfter, Button, Card, Chip, Empty, LevelMark, Said } from '../ui/parts';
import { type Column, Table } from '../ui/table';
import type { Route } from './+types/reclaim';
import { Pairs } from './pairs';

type Data = Route.ComponentProps['loaderData'];
type Line = Data['lines'][number];

export function Lines({ data }: { data: Data }) {
  const { lines, goal } = data;
  const [chosen, setChosen] = useState<ReadonlySet<string>>(() => new Set(goal?.keys ?? []));
  const lens = useLens();
  const fetcher = useFetcher<Answer>();
  const sums = useMemo(() => sumsOf(lines, chosen), [lines, chosen]);
  const points = useMemo(() => pointsOf(lines, Math.floor(data.nowMs / 86_400_000)), [lines, data.nowMs]);
  const levels = useMemo(() => lines.map((line) => line.level), [lines]);
  const choose = (inside: readonly number[]) => setChosen(new Set(inside.map((i) => lines[i]!.key)));
  const toggle = (key: string, on: boolean) =>
    setChosen((now) => new Set(on ? [...now, key] : [...now].filter((one) => one !== key)));
  if (lines.length === 0)
    return (
      <div className="card">
        <Empty>
          Nothing of this can go{data.inWork || data.project ? '' : ', but for what projects in work have'}.
        </Empty>
      </div>
    );
  return (
    <>
      <Said answer={fetcher.data} />
      <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1fr)_250px] items-start gap-4">
        <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
          {lines.length > 2 && data.group !== 'empty folders' && (
            <Card title="How old against how large" aside={<ByAge points={points} onChoose={choose} />}>
              <ChoosingPlot
                points={points}
                levels={levels}
                chosen={(i) => chosen.has(lines[i]!.key)}
                mark={chosen}
                onBox={choose}
              />
            </Card>
          )}
          <div className="card py-1">
            <Table
              label="What may go"
              rows={lines}
              rowKey={(line) => line.key}
              rowHeight={46}
              height="max(260px, calc(100vh - 330px))"
              columns={[choosing(lines, chosen, { all: setChosen, toggle }), ...columnsOf(data)]}
              actions={(line) => actionsOf(line, { chosen, setChosen, lens })}
            />
          </div>
        </div>
        <div className="grid gap-4">
          <AddToPlan fetcher={fetcher} cut={data.cut} find={data.find} chosen={chosen} sums={sums} />
          <After sums={sums} />
        </div>
      </div>
      {data.pairs.length > 0 && <Pairs pairs={data.pairs} />}
    </>
  );
}

interface Acting {
  chosen: ReadonlySet<string>;
  setChosen: (chosen: ReadonlySet<string>) => void;
  lens: ReturnType<typeof useLens>;
}

function actionsOf(line: Line, { chosen, setChosen, lens }: Acting): RowAction[] {
  const isIn = chosen.has(line.key);
  const next = () => new Set(isIn ? [...chosen].filter((key) => key !== line.key) : [...chosen, line.key]);
  return [
    { name: isIn ? 'Leave it out' : 'Choose it', letter: 'x', run: () => setChosen(next()) },
    { name: 'Choose it alone', run: () => setChosen(new Set([line.key])) },
    { name: 'Where it lies', letter: 'o', to: lens(`/space?folder=${line.folderId}`) },
    { name: 'Copy its path', letter: 'c', run: () => copyText(line.path) },
  ];
}

const AGES = [7, 30, 90, 180, 365] as const;

/** Everything that is at least so old, with how much that is: seen before it is pressed. */
function ByAge({ points, onChoose }: { points: Points; onChoose: (inside: number[]) => void }) {
  const sums = bytesByAge(points, AGES);
  return (
    <span role="group" aria-label="Choose by age" className="flex flex-wrap gap-1.5">
      {AGES.map((days, i) =>
        sums[i]! > 0 ? (
          <button
            key={days}
            type="button"
            onClick={() =>
              onChoose(within(points, { leastDays: days, mostDays: Infinity, leastBytes: 0, mostBytes: Infinity }))
            }
            className="rounded-md border border-line px-2 py-0.5 text-[13px] whitespace-nowrap hover:bg-panel"
          >
            {days} days · {size(sums[i]!)}
          </button>
        ) : null,
      )}
    </span>
  );
}

function sumsOf(lines: readonly Line[], chosen: ReadonlySet<string>) {
  const sums = { files: 0, bytes: 0, asideBytes: 0, costSeconds: 0, byVolume: new Map<number, number>() };
  for (const line of lines)
    if (chosen.has(line.key)) {
      sums.files += line.files;
      sums.bytes += line.bytes;
      sums.costSeconds += line.costSeconds;
      if (isForGood(line.level)) sums.byVolume.set(line.volumeId, (sums.byVolume.get(line.volumeId) ?? 0) + line.bytes);
      else sums.asideBytes += line.bytes;
    }
  return sums;
}

function After({ sums }: { sums: ReturnType<typeof sumsOf> }) {
  const { volumes } = useFrame();
  const touched = volumes.filter((volume) => (sums.byVolume.get(volume.volumeId) ?? 0) > 0);
  return (
    <Card title="After this">
      {touched.length === 0 ? (
        <p className="text-[13px] text-ink-2">
          {sums.asideBytes > 0
            ? 'Every volume is as full as before until it is removed.'
            : sums.files > 0
              ? 'Every volume is as full as before.'
              : 'Nothing is chosen.'}
        </p>
      ) : (
        <div className="grid gap-2.5">
          {touched.map((volume) => (
            <div key={volume.volumeId}>
              <BeforeAfter
                name={volume.name}
                before={volume.usedBytes}
                after={volume.usedBytes - (sums.byVolume.get(volume.volumeId) ?? 0)}
                capacity={volume.capacityBytes}
              />
              <Buys bytes={sums.byVolume.get(volume.volumeId) ?? 0} volume={volume} />
            </div>
          ))}
        </div>
      )}
    </Card>
  );
}

/** How much longer a volume that fills lasts. */
function Buys({ bytes, volume }: { bytes: number; volume: ReturnType<typeof useFrame>['volumes'][number] }) {
  const { forecast } = volume;
  if (forecast.says !== 'fills' || forecast.bytesPerDay <= 0) return null;
  const days = Math.floor(bytes / forecast.bytesPerDay);
  if (days < 1) return null;
  return (
    <div className="text-[13px] text-ink-2">
      {days === 1 ? 'A day more' : `About ${count(days)} days more`} before it is full
    </div>
  );
}

function columnsOf({ nowMs, group }: Data): Column<Line>[] {
  return [
    { key: 'path', title: 'Folder', sort: (line) => line.path, cell: (line) => <Place line={line} /> },
    {
      key: 'level',
      title: 'If it is needed again',
      sort: (line) => line.level,
      cell: (line) => (
        <span title={REASON_WORDS[line.reason]} className="block max-w-44 truncate min-[1500px]:max-w-72">
          <LevelMark level={line.level} />{' '}
          {line.reason === 'twice on its volume' && line.level === 3 ? ONE_VOLUME : LEVEL_WORDS[line.level]}
          <span className="block truncate text-[13px] text-ink-2">
            {group === null ? GROUP_WORDS[line.group].name : REASON_WORDS[line.reason]}
          </span>
        </span>
      ),
    },
    {
      key: 'age',
      title: 'Last changed',
      number: true,
      sort: (line) => line.day,
      cell: (line) => (line.day > 0 ? ago(line.day * 86_400_000, Math.max(nowMs, line.day * 86_400_000)) : ''),
    },
    {
      key: 'files',
      title: group === 'empty folders' ? 'Folders' : 'Files',
      number: true,
      sort: (line) => line.files,
      cell: (line) => count(line.files),
    },
    {
      key: 'size',
      title: 'Size',
      number: true,
      sort: (line) => line.bytes,
      cell: (line) => (line.group === 'empty folders' ? '' : <b>{size(line.bytes)}</b>),
    },
  ];
}

function Place({ line }: { line: Line }) {
  const lens = useLens();
  return (
    <span className="block max-w-48 min-[1500px]:max-w-80">
      <Link
        to={lens(`/space?folder=${line.folderId}`)}
        className="path block truncate hover:underline"
        title={`${line.volume} / ${line.path}`}
      >
        {line.path || '(top)'}
      </Link>
      <span className="flex items-center gap-1.5 text-[13px] text-ink-2">
        <span className="min-w-0 truncate">
          {line.volume}
          {line.project && `, ${line.project}`}
        </span>
        {(line.projectState === 'in work' || line.projectState === 'finishing') && (
          <Chip tone="caution">{line.projectState}</Chip>
        )}
      </span>
    </span>
  );
}

interface AddProps {
  fetcher: ReturnType<typeof useFetcher<Answer>>;
  cut: number;
  /** Only files with this in their names. */
  /** What they are narrowed to, so that no more goes of a folder than was seen. */
  find: Data['find'];
  chosen: ReadonlySet<string>;
  sums: ReturnType<typeof sumsOf>;
}

function AddToPlan({ fetcher, cut, find, chosen, sums }: AddProps) {
  const added = fetcher.data?.ok === true;
  return (
    <fetcher.Form method="post" className="card grid gap-2">
      <input type="hidden" name="intent" value="stage" />
      <input type="hidden" name="cutDay" value={cut} />
      {find && <input type="hidden" name={find.key === 'files' ? 'fileIds' : 'find'} value={find.value} />}
      <input type="hidden" name="lines" value={[...chosen].join(',')} />
      <Button tone="first" type="submit" disabled={chosen.size === 0 || fetcher.state !== 'idle' || added}>
        {chosen.size === 0 ? 'Add to the plan' : `Add ${amountOf(sums)} to the plan`}
      </Button>
      <p className="text-[13px] text-ink-2">
        {chosen.size === 0
          ? 'Nothing is chosen. Nothing goes before the plan is run.'
          : sums.bytes > 0
            ? `${counted(sums.files, 'file')}. `
            : 'Each is looked at once more: what somebody put there meanwhile keeps it.'}
        {sums.asideBytes > 0 &&
          `${size(sums.asideBytes)} is set aside: it can be taken back, and its space is free once it is removed from there.`}
        {sums.costSeconds >= 60 && ` About ${duration(sums.costSeconds)} to have the rest again.`}
      </p>
    </fetcher.Form>
  );
}

/** Empty folders have no size: they are counted. */
const amountOf = (sums: { files: number; bytes: number }) =>
  sums.bytes > 0 ? size(sums.bytes) : counted(sums.files, 'folder');

interface Choosing {
  all: (chosen: ReadonlySet<string>) => void;
  toggle: (key: string, on: boolean) => void;
}

const choosing = (lines: readonly Line[], chosen: ReadonlySet<string>, { all, toggle }: Choosing): Column<Line> => ({
  key: 'chosen',
  width: 30,
  title: (
    <Checkbox
      checked={chosen.size === 0 ? false : chosen.size === lines.length ? true : 'some'}
      onChange={(on) => all(new Set(on ? lines.map((line) => line.key) : []))}
      label="Choose every line"
    />
  ),
  cell: (line) => (
    <Checkbox
      checked={chosen.has(line.key)}
      onChange={(on) => toggle(line.key, on)}
      label={`Choose ${line.path || line.volume}`}
    />
  ),
});
