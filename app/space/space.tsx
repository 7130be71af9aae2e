// Space: a map of area by bytes, by folder, project, kind or age, with the table of the same beside it, both in step,
// for what the rack has chosen; the largest, newest, oldest and deepest; and what is known of one folder or file.
import clsx from 'clsx';
import { useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import type { Route } from './+types/space';
import { count, counted, exactTime, ago, size } from '#core/wording/amounts.ts';
import { AreaMap } from '../charts/area-map';
import { Strata } from '../charts/strata';
import { ColourKey, useInside } from './inside';
import { copyText } from '../lib/copy';
import { type To, useTo } from '../shell/links';
import { buttonLook, Card, Empty, KindDot, kindColour, Sentence } from '../ui/parts';
import type { RowAction } from '../ui/menu';
import { type Column, Table } from '../ui/table';
import { Checkbox } from '../ui/checkbox';
import { type Chosen, ChosenBar, useChosenRows } from './chosen';
import { FileCard, FolderCard } from './facts';

export { loader } from './space.server.ts';

type Data = Route.ComponentProps['loaderData'];
/** Where a click on a part leads: into the folder, or narrowed to the project, kind or age. */
const into = (to: To, by: Data['by'], key: string): string =>
  by === 'folder'
    ? to({ folder: key, file: null, open: null })
    : to({ [by === 'age' ? 'age' : by]: key, by: 'folder', file: null, open: null });

export default function Space({ loaderData: data }: Route.ComponentProps) {
  const to = useTo();
  const [pointed, setPointed] = useState<string | null>(null);
  const { folder, rows, units } = data;
  const inner = useInside(data);
  const chosen = useChosenRows(data);
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Sentence>{data.sentence}</Sentence>
      <Strata layers={data.layers} />
      <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1.6fr)_minmax(0,1fr)] gap-4">
        <Card
          title={<Trail folder={folder} to={to} />}
          aside={
            <Switch label="By" keys={['folder', 'project', 'kind', 'age']} chosen={data.by} to={(by) => to({ by })} />
          }
        >
          <Narrowed data={data} to={to} />
          {rows.length === 0 && units.length === 0 ? (
            <Empty>{data.narrowed.length > 0 ? 'Nothing here fits that.' : 'Nothing that was read lies here.'}</Empty>
          ) : (
            <AreaMap
              areas={[
                ...rows.map((row) => ({
                  key: `d${row.key}`,
                  name: row.name,
                  bytes: row.bytes,
                  to: into(to, data.by, row.key),
                  colour: data.by === 'kind' ? kindColour(row.key as never) : inner.colourOf(row.key),
                  inside: inner.inside(row.key).map((one) => ({
                    ...{ key: String(one.folderId), name: one.name, bytes: one.bytes },
                    ...{ to: into(to, 'folder', String(one.folderId)), colour: one.colour },
                  })),
                })),
                ...units.map((unit) => ({
                  key: `f${unit.fileId}`,
                  name: unit.name,
                  bytes: unit.bytes,
                  to: to({ file: String(unit.fileId) }),
                  colour: kindColour(unit.kind),
                })),
              ]}
              pointed={pointed}
              onPoint={setPointed}
            />
          )}
          {inner.isShown && <ColourKey inner={inner} />}
        </Card>
        <div className="grid min-w-0 grid-cols-[minmax(0,1fr)] content-start gap-4">
          {data.file ? (
            <FileCard data={data} file={data.file} to={to} />
          ) : (
            folder && <FolderCard folder={folder} going={data.going} paths={data.paths} />
          )}
          <Lists data={data} to={to} pointed={pointed} onPoint={setPointed} chosen={chosen} />
        </div>
      </div>
    </div>
  );
}

function Switch({
  label,
  keys,
  chosen,
  to,
}: {
  label: string;
  keys: readonly string[];
  chosen: string | null;
  to: (key: string) => string;
}) {
  return (
    <span role="group" aria-label={label} className="flex flex-wrap gap-1">
      {keys.map((key) => (
        <Link
          key={key}
          to={to(key)}
          preventScrollReset
          aria-current={key === chosen ? 'true' : undefined}
          className={clsx(
            'rounded-md px-2 py-0.5 text-[13px]',
            key === chosen ? 'bg-accent-wash font-semibold text-accent-deep' : 'text-ink-2 hover:text-ink',
          )}
        >
          {key}
        </Link>
      ))}
    </span>
  );
}

function Narrowed({ data, to }: { data: Data; to: To }) {
  if (data.narrowed.length === 0) return null;
  return (
    <p className="mb-2 flex flex-wrap items-center gap-2 text-[13px] text-ink-2">
      Only
      {data.narrowed.map((part) => (
        <Link
          key={part.key}
          to={to({ [part.key]: null })}
          aria-label={`No longer only ${part.words}`}
          className={clsx(buttonLook(), '!h-[24px] !px-2')}
        >
          {part.words} ×
        </Link>
      ))}
    </p>
  );
}

function Trail({ folder, to }: { folder: Data['folder']; to: To }) {
  const at = (id: number | null) => to({ folder: id === null ? null : String(id), file: null, open: null });
  if (!folder) return <>Volumes</>;
  return (
    <nav aria-label="Where" className="path truncate font-normal">
      <Link to={at(null)} className="text-accent hover:underline">
        all
      </Link>
      {folder.trail.map((step, i) => (
        <span key={step.folderId}>
          {' / '}
          {i === folder.trail.length - 1 ? (
            <b>{step.name}</b>
          ) : (
            <Link to={at(step.folderId)} className="text-accent hover:underline">
              {step.name}
            </Link>
          )}
        </span>
      ))}
    </nav>
  );
}

interface Pointing {
  data: Data;
  to: To;
  pointed: string | null;
  onPoint: (key: string | null) => void;
  chosen: Chosen;
}

const LIST_HEIGHT = 'max(220px, calc(100vh - 440px))';
const PARTS = { folder: 'folders', project: 'projects', kind: 'kinds', age: 'ages' } as const;

/** The table of what the map shows, or the files that stand out. */
function Lists(pointing: Pointing) {
  const { data, to, chosen } = pointing;
  const here =
    data.by === 'folder' && data.rows.length === 0
      ? 'files'
      : data.folder
        ? PARTS[data.by]
        : data.by === 'folder'
          ? 'volumes'
          : PARTS[data.by];
  return (
    <Card
      title={
        <Switch
          label="List"
          keys={[here, 'largest', 'newest', 'oldest', 'deepest']}
          chosen={data.list ?? here}
          to={(key) => to({ list: key === here ? null : key })}
        />
      }
    >
      {data.list ? (
        <Extremes data={data} to={to} />
      ) : (
        <>
          <ChosenBar data={data} chosen={chosen} />
          {data.rows.length > 0 && <Parts {...pointing} />}
          {data.units.length > 0 && <Units {...pointing} />}
          {data.rows.length + data.units.length === 0 && <Empty>Nothing here.</Empty>}
        </>
      )}
    </Card>
  );
}

function Parts({ data, to, pointed, onPoint, chosen }: Pointing) {
  const isFolders = data.by === 'folder';
  return (
    <Table
      label={data.by === 'folder' ? 'Folders' : `By ${data.by}`}
      rows={data.rows}
      rowKey={(row) => row.key}
      first={data.by === 'age' ? undefined : { by: 'size', down: true }}
      height={data.units.length > 0 ? 220 : LIST_HEIGHT}
      marked={(row) => `d${row.key}` === pointed}
      onPoint={(row) => onPoint(row ? `d${row.key}` : null)}
      actions={(row) => [
        { name: 'Look into it', letter: 'o', to: into(to, data.by, row.key) },
        { name: 'Copy its path', letter: 'c', run: () => copyText(row.path || row.name) },
        ...(isFolders ? [choosing(chosen, `d${row.key}`)] : []),
      ]}
      columns={[
        ...(isFolders ? [tickColumn(chosen, data.rows, (row) => ({ key: `d${row.key}`, name: row.name }))] : []),
        {
          key: 'name',
          title:
            data.by === 'folder'
              ? data.folder
                ? 'Folder'
                : 'Volume'
              : data.by === 'age'
                ? 'Changed'
                : data.by === 'kind'
                  ? 'Kind'
                  : 'Project',
          sort: data.by === 'age' ? undefined : (row) => row.name.toLowerCase(),
          cell: (row) => (
            <Link
              to={into(to, data.by, row.key)}
              className="path block max-w-48 truncate hover:underline"
              title={row.path || row.name}
            >
              {row.name}
            </Link>
          ),
        },
        { key: 'files', title: 'Files', number: true, sort: (row) => row.files, cell: (row) => count(row.files) },
        { key: 'size', title: 'Size', number: true, sort: (row) => row.bytes, cell: (row) => <b>{size(row.bytes)}</b> },
      ]}
    />
  );
}

const choosing = (chosen: Chosen, key: string): RowAction => ({
  name: chosen.has(key) ? 'Choose it no longer' : 'Choose it with others',
  letter: 'x',
  run: () => chosen.toggle([key], !chosen.has(key)),
});

/** A tick before each row, and one for all of them above. */
function tickColumn<Row>(
  chosen: Chosen,
  all: readonly Row[],
  of: (row: Row) => { key: string; name: string } | null,
): Column<Row> {
  const keys = all.flatMap((row) => of(row)?.key ?? []);
  const on = keys.filter((key) => chosen.has(key)).length;
  return {
    key: 'chosen',
    title: (
      <Checkbox
        label="Choose all of them"
        checked={on === 0 ? false : on === keys.length ? true : 'some'}
        onChange={() => chosen.toggle(keys, on < keys.length)}
      />
    ),
    width: 30,
    cell: (row) => {
      const one = of(row);
      return (
        one && (
          <Checkbox
            label={`Choose ${one.name}`}
            checked={chosen.has(one.key)}
            onChange={(isOn) => chosen.toggle([one.key], isOn)}
          />
        )
      );
    },
  };
}

type UnitLine = Data['units'][number] & { member: boolean };

/** Files of the folder, a unit a row; a row of several opens. */
function Units({ data, to, pointed, onPoint, chosen }: Pointing) {
  const [search] = useSearchParams();
  const open = search.get('open');
  const lines = data.units.flatMap((unit): UnitLine[] => [
    { ...unit, member: false },
    ...unit.members.map((file) => ({
      ...unit,
      ...file,
      is: 'file' as const,
      files: 1,
      trouble: null,
      members: [],
      member: true,
    })),
  ]);
  return (
    <Table<UnitLine>
      label="Files"
      rows={lines}
      rowKey={(unit) => `${unit.member ? 'm' : 'u'}${unit.fileId}`}
      height={data.rows.length > 0 ? 220 : LIST_HEIGHT}
      marked={(unit) => data.file?.fileId === unit.fileId || `f${unit.fileId}` === pointed}
      onPoint={(unit) => onPoint(unit && !unit.member ? `f${unit.fileId}` : null)}
      actions={(unit) => [
        { name: 'What is known of it', letter: 'o', to: to({ file: String(unit.fileId) }) },
        { name: 'Copy its name', letter: 'c', run: () => copyText(unit.name) },
        ...(unit.member ? [] : [choosing(chosen, `f${unit.fileId}`)]),
      ]}
      columns={[
        tickColumn(chosen, data.units, (unit: Data['units'][number] & { member?: boolean }) =>
          unit.member ? null : { key: `f${unit.fileId}`, name: unit.name },
        ),
        {
          key: 'name',
          title: 'File',
          cell: (unit) => <UnitName unit={unit} open={open} to={to} />,
        },
        {
          key: 'age',
          title: 'Changed',
          number: true,
          cell: (unit) => (
            <span title={exactTime(unit.modifiedUs / 1000)}>{ago(unit.modifiedUs / 1000, data.nowMs)}</span>
          ),
        },
        { key: 'size', title: 'Size', number: true, cell: (unit) => <b>{size(unit.bytes)}</b> },
      ]}
    />
  );
}

function Extremes({ data, to }: { data: Data; to: To }) {
  if (data.extreme.length === 0) return <Empty>Nothing here.</Empty>;
  return (
    <Table
      label={`The ${data.list}`}
      rows={data.extreme}
      rowKey={(row) => `${row.fileId ?? 'd'}${row.folderId}`}
      height={LIST_HEIGHT}
      columns={[
        {
          key: 'name',
          title: data.list === 'deepest' ? 'Folder' : 'File',
          cell: (row) => (
            <Link
              to={to({
                folder: String(row.folderId),
                file: row.fileId === null ? null : String(row.fileId),
                list: null,
              })}
              className="path flex max-w-52 items-center gap-1.5 hover:underline"
              title={`${row.where} / ${row.name}`}
            >
              {row.kind && <KindDot kind={row.kind} />}
              <span className="truncate">{row.name}</span>
            </Link>
          ),
        },
        {
          key: 'age',
          title: data.list === 'deepest' ? 'Deep' : 'Changed',
          number: true,
          cell: (row) =>
            row.modifiedUs === null ? (
              count(row.depth)
            ) : (
              <span title={exactTime(row.modifiedUs / 1000)}>{ago(row.modifiedUs / 1000, data.nowMs)}</span>
            ),
        },
        { key: 'size', title: 'Size', number: true, cell: (row) => <b>{size(row.bytes)}</b> },
      ]}
    />
  );
}

function UnitName({ unit, open, to }: { unit: UnitLine; open: string | null; to: To }) {
  return (
    <span className={clsx('path flex max-w-44 items-center gap-1.5', unit.member && 'pl-4')}>
      <KindDot kind={unit.kind} />
      <Link
        to={to({ file: String(unit.fileId) })}
        className="truncate hover:underline"
        title={`${unit.name}, ${unit.kind}`}
      >
        {unit.name}
      </Link>
      {unit.is !== 'file' && (
        <Link
          to={to({ open: open === unit.name ? null : unit.name })}
          preventScrollReset
          className="shrink-0 font-sans text-xs text-accent hover:underline"
          aria-label={`${open === unit.name ? 'Close' : 'Open'} ${unit.name}, ${counted(unit.files, 'file')}`}
          title={unit.trouble ?? undefined}
        >
          {unit.trouble ? <span className="text-caution">{count(unit.files)}, with gaps</span> : count(unit.files)}
        </Link>
      )}
    </span>
  );
}
