// What is known of one folder or file: whose it is and why, who uses it, its path on every station, and what can be done.
import { projectsForm } from '#contract/forms.ts';
import { useState } from 'react';
import { Link, useFetcher } from 'react-router';
import type { Route } from './+types/space';
import { LEVEL_WORDS } from '#core/model.ts';
import { ago, counted, exactTime, size } from '#core/wording/amounts.ts';
import { groupWords, REASON_WORDS } from '#core/wording/reclaim.ts';
import type { Answer } from '../lib/answer';
import { useFrame } from '../shell/use-frame';
import { type To, useLens } from '../shell/links';
import { Form } from '../ui/form';
import { Button, Card, Chip, Field, inputLook, LevelMark, Said } from '../ui/parts';
import { Picture } from '../ui/picture';
import { UsedStrip } from '../charts/used-strip';

type Data = Route.ComponentProps['loaderData'];

interface FolderProps {
  folder: NonNullable<Data['folder']>;
  going: Data['going'];
  paths: Data['paths'];
}

export function FolderCard({ folder, going, paths }: FolderProps) {
  const { volumes } = useFrame();
  const lens = useLens();
  const reading = useFetcher<Answer>();
  const volume = volumes.find((v) => v.volumeId === folder.volumeId);
  return (
    <Card
      title={<span className="path block max-w-56 truncate">{folder.trail.at(-1)?.name}</span>}
      aside={
        <reading.Form method="post" action="/work">
          <input type="hidden" name="folderId" value={folder.folderId} />
          <Button type="submit" name="intent" value="read folder" disabled={reading.state !== 'idle'}>
            Read it now
          </Button>
        </reading.Form>
      }
    >
      <dl className="grid grid-cols-[84px_minmax(0,1fr)] gap-y-1">
        <dt className="text-ink-2">Holds</dt>
        <dd>
          {size(folder.bytes)}, {counted(folder.files, 'file')}
        </dd>
        <dt className="text-ink-2">Volume</dt>
        <dd>
          {folder.volume}, {volume?.station} {volume?.readOnly && <Chip tone="caution">can only be read</Chip>}
        </dd>
        <dt className="text-ink-2">Project</dt>
        <dd>
          {folder.project ? (
            <Link to={lens(`/projects/${folder.project.projectId}`)} className="text-accent hover:underline">
              {folder.project.name}
            </Link>
          ) : folder.path === '' ? (
            'several, or none'
          ) : (
            <MakeProject folder={folder} />
          )}
        </dd>
        <MayGo folder={folder} going={going ?? []} />
        <Paths paths={paths} />
      </dl>
      <Said answer={reading.data} />
    </Card>
  );
}

/** What of it could be given up: one step from here. */
function MayGo({ folder, going }: { folder: NonNullable<Data['folder']>; going: NonNullable<Data['going']> }) {
  const lens = useLens();
  const total = going.reduce((sum, one) => sum + one.bytes, 0);
  if (total === 0) return null;
  const where = folder.path === '' ? `v=${folder.volumeId}` : `folder=${folder.folderId}`;
  const at = (group: string | null) =>
    lens(`/reclaim?${where}&work=1${group === null ? '' : `&group=${encodeURIComponent(group)}`}`);
  return (
    <>
      <dt className="text-ink-2">Can go</dt>
      <dd>
        <Link to={at(null)} className="block min-h-6 text-accent hover:underline">
          {size(total)}
        </Link>
        <span className="block text-[13px] text-ink-2">
          {going.slice(0, 3).map(({ group, bytes }, i) => (
            <span key={group}>
              {i > 0 && ', '}
              <Link to={at(group)} className="hover:text-ink hover:underline">
                {size(bytes)} of {groupWords(group, [])}
              </Link>
            </span>
          ))}
        </span>
      </dd>
    </>
  );
}

/** A folder that belongs to nobody can become a project. */
function MakeProject({ folder }: { folder: NonNullable<Data['folder']> }) {
  const fetcher = useFetcher<Answer>();
  const [open, setOpen] = useState(false);
  if (!open)
    return (
      <>
        none,{' '}
        <button type="button" className="text-accent hover:underline" onClick={() => setOpen(true)}>
          make it one
        </button>
      </>
    );
  return (
    <Form fetcher={fetcher} schema={projectsForm} method="post" action="/projects" className="grid gap-2">
      <input type="hidden" name="intent" value="from folder" />
      <input type="hidden" name="folderId" value={folder.folderId} />
      <Field label="Title of the project">
        <input name="name" className={inputLook} defaultValue={folder.trail.at(-1)?.name} />
      </Field>
      <div>
        <Button tone="first" type="submit" disabled={fetcher.state !== 'idle'}>
          Register
        </Button>
      </div>
      <Said answer={fetcher.data} />
    </Form>
  );
}

interface FileProps {
  data: Data;
  file: NonNullable<Data['file']>;
  to: To;
}

export function FileCard({ data: { essence, used, worth, paths, nowMs }, file, to }: FileProps) {
  return (
    <Card
      title={
        <span className="path block max-w-64 truncate" title={file.name}>
          {file.name}
        </span>
      }
      aside={
        <Link to={to({ file: null })} className="text-accent hover:underline">
          close
        </Link>
      }
    >
      {essence?.hasPicture && <Strip key={file.fileId} fileId={file.fileId} name={file.name} />}
      <dl className="grid grid-cols-[84px_minmax(0,1fr)] gap-y-1">
        <dt className="text-ink-2">Is</dt>
        <dd>
          {file.kind}, {size(file.bytes)}, changed{' '}
          <span title={exactTime(file.modifiedUs / 1000)}>{ago(file.modifiedUs / 1000, nowMs)}</span>
          {file.kindReason && <span className="block text-[13px] text-ink-2">{file.kindReason}</span>}
        </dd>
        <Structure essence={essence} />
        <Belongs file={file} />
        {used && <Used used={used} />}
        {worth.length > 0 && <FileMayGo key={file.fileId} fileId={file.fileId} worth={worth} />}
        <dt className="text-ink-2">Lies in</dt>
        <dd>
          <Link to={to({ folder: String(file.folderId), file: null })} className="path text-accent hover:underline">
            {file.folder || file.volume}
          </Link>
        </dd>
        <Paths paths={paths} />
      </dl>
    </Card>
  );
}

/** How replaceable a file is that could go, and the one step to it. */
function FileMayGo({ fileId, worth }: { fileId: number; worth: Data['worth'] }) {
  const fetcher = useFetcher<Answer>();
  // The first is the largest; what belongs to it comes along.
  const [{ reason, level }] = worth as [(typeof worth)[number]];
  const files = worth.reduce((sum, line) => sum + line.files, 0);
  return (
    <>
      <dt className="text-ink-2">Can go</dt>
      <dd>
        <fetcher.Form method="post" action="/reclaim" className="flex flex-wrap items-center gap-x-2 gap-y-1">
          <input type="hidden" name="intent" value="stage" />
          <input type="hidden" name="cutDay" value={0} />
          <input type="hidden" name="fileId" value={fileId} />
          <input type="hidden" name="lines" value={worth.map((line) => line.key).join(',')} />
          <span className="min-w-0 flex-1">
            {REASON_WORDS[reason]}
            <span className="flex items-center gap-1.5 text-[13px] text-ink-2">
              <LevelMark level={level} /> {LEVEL_WORDS[level]}
            </span>
            {files > 1 && (
              <span className="block text-[13px] text-ink-2">
                {counted(files, 'file')} that belong together, {size(worth.reduce((sum, line) => sum + line.bytes, 0))}
              </span>
            )}
          </span>
          <Button type="submit" disabled={fetcher.state !== 'idle' || fetcher.data?.ok === true}>
            Add to the plan
          </Button>
        </fetcher.Form>
        <Said answer={fetcher.data} />
      </dd>
    </>
  );
}

const MOST_PARTS = 8;

/** Which parts of it are used: as a strip, and in its own timecode. */
function Used({ used }: { used: NonNullable<Data['used']> }) {
  const { isWhole, parts, shares } = used;
  return (
    <>
      <dt className="text-ink-2">Used</dt>
      <dd>
        {isWhole ? (
          'all of it'
        ) : (
          <>
            {shares.length > 0 && <UsedStrip parts={shares} />}
            <ul aria-label="Used parts" className="mt-0.5">
              {parts.slice(0, MOST_PARTS).map(({ from, to }) => (
                <li key={from} className="path">
                  {from} to {to}
                </li>
              ))}
            </ul>
            {parts.length > MOST_PARTS && (
              <span className="text-[13px] text-ink-2">and {parts.length - MOST_PARTS} more</span>
            )}
          </>
        )}
      </dd>
    </>
  );
}

/** A few moments of it, evenly spread. What has no picture there is left empty. */
function Strip({ fileId, name }: { fileId: number; name: string }) {
  return (
    <div role="img" aria-label={`Moments of ${name}`} className="mb-2 flex gap-px overflow-hidden rounded-md bg-free">
      {Array.from({ length: 8 }, (_, at) => (
        <span key={at} className="aspect-video min-w-0 flex-1">
          <Picture fileId={fileId} at={at} />
        </span>
      ))}
    </div>
  );
}

function Paths({ paths }: { paths: Data['paths'] }) {
  return paths.map((place) => (
    <div key={place.station} className="contents">
      <dt className="truncate text-ink-2" title={place.station}>
        {place.station}
      </dt>
      <dd className="flex items-start justify-between gap-2">
        <span className="path min-w-0 break-all" title={place.path}>
          {place.path}
        </span>
        <CopyPath station={place.station} path={place.path} />
      </dd>
    </div>
  ));
}

/** Copies a path in one station's syntax, and says so. */
function CopyPath({ station, path }: { station: string; path: string }) {
  const [copied, setCopied] = useState(false);
  return (
    <button
      type="button"
      className="min-h-6 shrink-0 px-1 text-[13px] text-accent hover:underline"
      aria-label={`Copy path for ${station}`}
      onClick={() => void navigator.clipboard.writeText(path).then(() => setCopied(true))}
    >
      {copied ? 'copied' : 'copy'}
    </button>
  );
}

function Structure({ essence }: Pick<Data, 'essence'>) {
  return (
    <>
      {essence?.words.map((line) => (
        <div key={line.name} className="contents">
          <dt className="text-ink-2">{line.name}</dt>
          <dd>{line.says}</dd>
        </div>
      ))}
      {essence?.note && (
        <>
          <dt className="text-ink-2">Structure</dt>
          <dd className="text-caution">{essence.note}</dd>
        </>
      )}
      {essence?.trouble && (
        <>
          <dt className="text-ink-2">Structure</dt>
          <dd className="text-loss">damaged: {essence.trouble}</dd>
        </>
      )}
    </>
  );
}

/** Whose it is, and who uses it. */
function Belongs({ file }: Pick<FileProps, 'file'>) {
  const lens = useLens();
  return (
    <>
      <dt className="text-ink-2">Project</dt>
      <dd>
        {file.project ? (
          <Link to={lens(`/projects/${file.project.projectId}`)} className="text-accent hover:underline">
            {file.project.name}
          </Link>
        ) : (
          <Chip tone={file.kind === 'library' ? 'plain' : 'caution'}>
            {file.kind === 'library' ? 'everybody’s' : 'nobody’s'}
          </Chip>
        )}{' '}
        {file.atHome === false && <Chip tone="caution">strayed</Chip>}
        <span className="block text-[13px] text-ink-2">{file.reason}</span>
      </dd>
      <dt className="text-ink-2">Used by</dt>
      <dd>
        {file.users.length === 0
          ? 'no document'
          : file.users.map((user) => (
              <span key={user.projectId} className="block">
                <Link to={lens(`/projects/${user.projectId}`)} className="text-accent hover:underline">
                  {user.name}
                </Link>
                , {user.inTimelines ? `in ${user.names.join(', ')}` : 'in a bin, in no timeline'}{' '}
                {file.project && user.projectId !== file.project.projectId && file.borrowed && <Chip>borrows it</Chip>}
              </span>
            ))}
      </dd>
    </>
  );
}
