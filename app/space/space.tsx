// Space: a map of area by bytes, folder by folder, with the table of the same beside it, for what the rack has chosen.
import { useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import type { Route } from './+types/space';
import { count, counted, exactTime, ago, size } from '#core/say/amounts.ts';
import { AreaMap } from '../charts/area-map';
import { Strata } from '../charts/strata';
import { useFrame } from '../shell/frame';
import { Card, Empty, KindDot, Sentence } from '../ui/parts';
import { Table } from '../ui/table';

export { loader } from './space.server.ts';

type Data = Route.ComponentProps['loaderData'];

export default function Space({ loaderData }: Route.ComponentProps) {
  const { folder, rows, files } = loaderData;
  const [search] = useSearchParams();
  const to = (folderId: number | null) => {
    const next = new URLSearchParams(search);
    next.delete('file');
    if (folderId === null) next.delete('folder');
    else next.set('folder', String(folderId));
    return `?${next.toString()}`;
  };
  return (
    <div className="grid gap-4">
      <Sentence>{loaderData.sentence}</Sentence>
      <Strata layers={loaderData.layers} />
      <div className="grid grid-cols-[minmax(0,1.7fr)_minmax(0,1fr)] gap-4">
        <Card
          title={<Trail folder={folder} to={to} />}
          aside={folder ? `${size(folder.bytes)} in ${counted(folder.files, 'file')}` : 'area is size'}
        >
          {rows.length === 0 && files.length === 0 ? (
            <Empty>Nothing that was read lies here.</Empty>
          ) : (
            <AreaMap rows={rows} files={files} to={to} />
          )}
        </Card>
        <div className="grid content-start gap-4">
          {folder && <Facts folder={folder} paths={loaderData.paths} />}
          <Card
            title={rows.length === 0 ? 'Files' : folder ? 'Folders' : 'Volumes'}
            aside={`${rows.length > 0 ? count(rows.length) : count(files.length)}`}
          >
            {rows.length > 0 ? (
              <Folders rows={rows} to={to} />
            ) : (
              <Files files={files} nowMs={loaderData.nowMs} marked={Number(search.get('file'))} />
            )}
          </Card>
          {rows.length > 0 && files.length > 0 && (
            <Card title="Files here" aside={count(files.length)}>
              <Files files={files} nowMs={loaderData.nowMs} marked={Number(search.get('file'))} />
            </Card>
          )}
        </div>
      </div>
    </div>
  );
}

function Trail({ folder, to }: { folder: Data['folder']; to: (id: number | null) => string }) {
  if (!folder) return <>Volumes</>;
  return (
    <nav aria-label="Where" className="path truncate font-normal">
      <Link to={to(null)} className="text-accent hover:underline">
        all
      </Link>
      {folder.trail.map((step, i) => (
        <span key={step.folderId}>
          {' / '}
          {i === folder.trail.length - 1 ? (
            <b>{step.name}</b>
          ) : (
            <Link to={to(step.folderId)} className="text-accent hover:underline">
              {step.name}
            </Link>
          )}
        </span>
      ))}
    </nav>
  );
}

function Facts({ folder, paths }: { folder: NonNullable<Data['folder']>; paths: Data['paths'] }) {
  const { volumes } = useFrame();
  const volume = volumes.find((v) => v.volumeId === folder.volumeId);
  return (
    <Card title={folder.trail.at(-1)?.name}>
      <dl className="grid grid-cols-[90px_minmax(0,1fr)] gap-y-1">
        <dt className="text-ink-2">Holds</dt>
        <dd>
          {size(folder.bytes)}, {counted(folder.files, 'file')}
        </dd>
        <dt className="text-ink-2">Volume</dt>
        <dd>
          {folder.volume}, {volume?.station}
        </dd>
        {paths.map((place) => (
          <div key={place.station} className="contents">
            <dt className="truncate text-ink-2" title={place.station}>
              {place.station}
            </dt>
            <dd className="flex items-start justify-between gap-2">
              <span className="path min-w-0 break-all">{place.path}</span>
              <CopyPath station={place.station} path={place.path} />
            </dd>
          </div>
        ))}
      </dl>
    </Card>
  );
}

/** Copies a path in one station's syntax, and says so. */
function CopyPath({ station, path }: { station: string; path: string }) {
  const [copied, setCopied] = useState(false);
  return (
    <button
      type="button"
      className="shrink-0 text-[13px] text-accent hover:underline"
      aria-label={`Copy path for ${station}`}
      onClick={() => void navigator.clipboard.writeText(path).then(() => setCopied(true))}
    >
      {copied ? 'copied' : 'copy'}
    </button>
  );
}

function Folders({ rows, to }: { rows: Data['rows']; to: (id: number) => string }) {
  return (
    <Table
      label="Folders"
      rows={rows}
      rowKey={(row) => row.folderId}
      first={{ by: 'size', down: true }}
      height="max(240px, calc(100vh - 420px))"
      columns={[
        {
          key: 'name',
          title: 'Folder',
          sort: (row) => row.name.toLowerCase(),
          cell: (row) => (
            <Link
              to={to(row.folderId)}
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

function Files({ files, nowMs, marked }: { files: Data['files']; nowMs: number; marked: number }) {
  return (
    <Table
      label="Files"
      rows={files}
      rowKey={(file) => file.fileId}
      first={{ by: 'size', down: true }}
      height="max(240px, calc(100vh - 420px))"
      marked={(file) => file.fileId === marked}
      columns={[
        {
          key: 'name',
          title: 'File',
          sort: (file) => file.name.toLowerCase(),
          cell: (file) => (
            <span className="path flex max-w-48 items-center gap-1.5" title={`${file.name}, ${file.kind}`}>
              <KindDot kind={file.kind} /> <span className="truncate">{file.name}</span>
            </span>
          ),
        },
        {
          key: 'age',
          title: 'Changed',
          number: true,
          sort: (file) => file.modifiedUs,
          cell: (file) => <span title={exactTime(file.modifiedUs / 1000)}>{ago(file.modifiedUs / 1000, nowMs)}</span>,
        },
        {
          key: 'size',
          title: 'Size',
          number: true,
          sort: (file) => file.bytes,
          cell: (file) => <b>{size(file.bytes)}</b>,
        },
      ]}
    />
  );
}
