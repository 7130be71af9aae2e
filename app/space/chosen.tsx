// What is chosen in the lists of Space: several folders or files at once, and what can be done with all of them.
import { useState } from 'react';
import { Link, useFetcher } from 'react-router';
import type { Route } from './+types/space';
import { counted, listed, size } from '#core/wording/amounts.ts';
import type { Answer } from '../lib/answer';
import { useLens } from '../shell/links';
import { Button, buttonLook, inputLook, Said } from '../ui/parts';
import { Select } from '../ui/select';

type Data = Route.ComponentProps['loaderData'];

export interface Chosen {
  folders: readonly number[];
  files: readonly number[];
  has: (key: string) => boolean;
  toggle: (keys: readonly string[], on: boolean) => void;
}

/** By `d` and the number of a folder, or `f` and that of a file. Of another place nothing is chosen yet. */
export function useChosenRows(data: Data): Chosen {
  const place = `${data.by} ${data.folder?.folderId ?? ''}`;
  const [kept, keep] = useState<{ place: string; keys: ReadonlySet<string> }>({ place, keys: new Set() });
  const keys = kept.place === place ? kept.keys : new Set<string>();
  const numbers = (letter: string) =>
    [...keys].filter((key) => key.startsWith(letter)).map((key) => Number(key.slice(1)));
  return {
    folders: numbers('d'),
    files: numbers('f'),
    has: (key) => keys.has(key),
    toggle: (some, on) =>
      keep({ place, keys: on ? new Set([...keys, ...some]) : new Set([...keys].filter((key) => !some.includes(key))) }),
  };
}

/** What an address can name, and what one step looks through. */
const MOST_FOLDERS = 100;
const MOST_FILES = 1000;

export function ChosenBar({ data, chosen }: { data: Data; chosen: Chosen }) {
  const lens = useLens();
  const { folders, files } = chosen;
  if (folders.length + files.length === 0) return null;
  const bytes =
    data.rows.filter((row) => folders.includes(Number(row.key))).reduce((sum, row) => sum + row.bytes, 0) +
    data.units.filter((unit) => files.includes(unit.fileId)).reduce((sum, unit) => sum + unit.bytes, 0);
  const words = listed([
    ...(folders.length > 0 ? [counted(folders.length, data.folder ? 'folder' : 'volume')] : []),
    ...(files.length > 0 ? [counted(files.length, 'file')] : []),
  ]);
  const isTooMany = folders.length > MOST_FOLDERS || files.length > MOST_FILES;
  const going = (where: string) => lens(`/reclaim?${where}&work=1&left=0`);
  return (
    <div role="group" aria-label="What is chosen" className="mb-2 grid gap-2 rounded-md bg-accent-wash px-3 py-2">
      <div className="flex flex-wrap items-center gap-x-3 gap-y-1.5 text-[13px]">
        <span role="status">
          <b>{words}</b>, {size(bytes)}
        </span>
        {isTooMany && (
          <span className="text-caution">
            {counted(MOST_FOLDERS, 'folder')} and {counted(MOST_FILES, 'file')} at a time: choose fewer, or the folder
            they lie in.
          </span>
        )}
        {!isTooMany && folders.length > 0 && (
          <Link to={going(`folder=${folders.join(',')}`)} className={buttonLook()}>
            What can go
          </Link>
        )}
        {!isTooMany && files.length > 0 && (
          <Link to={going(`files=${files.join(',')}`)} className={buttonLook()}>
            {folders.length > 0 ? 'What of the files can go' : 'What can go'}
          </Link>
        )}
        {!isTooMany && (
          <a
            href={`/space/chosen?folders=${folders.join(',')}&files=${files.join(',')}`}
            className={buttonLook()}
            download
          >
            CSV
          </a>
        )}
        <button
          type="button"
          className="ml-auto min-h-6 px-1 text-accent-deep hover:underline"
          onClick={() => chosen.toggle([...folders.map((id) => `d${id}`), ...files.map((id) => `f${id}`)], false)}
        >
          Clear
        </button>
      </div>
      {data.folder && folders.length > 0 && !isTooMany && <Give folders={folders} projects={data.allProjects} />}
    </div>
  );
}

function Give({ folders, projects }: { folders: readonly number[]; projects: Data['allProjects'] }) {
  const fetcher = useFetcher<Answer>();
  return (
    <>
      <fetcher.Form method="post" action="/projects" className="flex items-center gap-2">
        <input type="hidden" name="intent" value="give folders" />
        <input type="hidden" name="folderIds" value={folders.join(',')} />
        <Select name="projectId" aria-label="Project that they are given to" className={`${inputLook} h-8 text-[13px]`}>
          {projects.map((one) => (
            <option key={one.projectId} value={one.projectId}>
              {one.name}
            </option>
          ))}
        </Select>
        <Button type="submit" disabled={fetcher.state !== 'idle' || projects.length === 0}>
          Give to it
        </Button>
      </fetcher.Form>
      <Said answer={fetcher.data} />
    </>
  );
}
