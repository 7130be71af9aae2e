// A folder of this server: typed, or chosen from what a worker sees there, with what is known against it before anything is saved.
import { useState } from 'react';
import { useFetcher } from 'react-router';
import { counted, size } from '#core/wording/amounts.ts';
import type { Looked } from '#server/stores/folder-list.ts';
import { Closes, Dialog } from '../ui/dialog';
import { Button, Field, inputLook } from '../ui/parts';
import { Scroll } from '../ui/scroll';

type Seen = ({ ok: true } & Looked) | { ok: false; error: string };

interface FolderFieldProps {
  name: string;
  label: string;
  hint?: string;
  initial?: string;
  required?: boolean;
}

export function FolderField({ name, label, hint, initial = '', required = true }: FolderFieldProps) {
  const [path, setPath] = useState(initial);
  return (
    <div>
      <Field label={label} hint={hint}>
        <input
          name={name}
          className={`${inputLook} path`}
          value={path}
          onChange={(event) => setPath(event.target.value)}
          placeholder="/mnt/media"
          required={required}
        />
      </Field>
      <Chooser from={path} label={label} onChoose={setPath} />
    </div>
  );
}

interface ChooserProps {
  from: string;
  label: string;
  onChoose: (path: string) => void;
}

function Chooser({ from, label, onChoose }: ChooserProps) {
  const [open, setOpen] = useState(false);
  const { load, data, state } = useFetcher<Seen>();
  const go = (path: string) => void load(`/storage/folders?path=${encodeURIComponent(path)}`);
  return (
    <Dialog
      title={label}
      open={open}
      onOpen={(next) => {
        setOpen(next);
        if (next) go(from.startsWith('/') ? from : '/');
      }}
      className="grid w-[520px] gap-3"
      opener={<Button className="mt-1.5">Choose a folder</Button>}
    >
      <Shown seen={data} isLooking={state !== 'idle'} go={go} />
      <div className="flex justify-end gap-2">
        <Closes>
          <Button>Close</Button>
        </Closes>
        <Button
          tone="first"
          disabled={state !== 'idle' || !data?.ok || data.against !== null}
          onClick={() => {
            if (data?.ok) onChoose(data.list.path);
            setOpen(false);
          }}
        >
          Use this folder
        </Button>
      </div>
    </Dialog>
  );
}

interface ShownProps {
  seen: Seen | undefined;
  isLooking: boolean;
  go: (path: string) => void;
}

function Shown({ seen, isLooking, go }: ShownProps) {
  if (!seen) return <p className="text-[13px] text-ink-2">Looking …</p>;
  if (!seen.ok)
    return (
      <>
        <p role="alert" className="text-[13px] text-loss">
          {seen.error}
        </p>
        <Button onClick={() => go('/')}>Look at all of this server</Button>
      </>
    );
  const { list, mounted, against } = seen;
  return (
    <>
      <div className="grid gap-1 text-[13px]" aria-busy={isLooking}>
        <p className="path font-medium break-all">{list.path}</p>
        <p className="text-ink-2">
          {size(list.freeBytes)} of {size(list.totalBytes)} free, {counted(list.folders.length + list.more, 'folder')}{' '}
          and {counted(list.files, 'file')} in it.
        </p>
        {against !== null && <p className="text-caution">{against}</p>}
      </div>
      <Mounted mounted={mounted} at={list.path} go={go} />
      <Scroll label="Folders in it" maxHeight={256} className="rounded-lg border border-line">
        <ul className="rows px-1.5" aria-label="Folders in it">
          {list.parent !== null && <Row words="One up" path={list.parent} go={go} />}
          {list.folders.map((name) => (
            <Row key={name} words={name} path={`${list.path === '/' ? '' : list.path}/${name}`} go={go} />
          ))}
          {list.folders.length === 0 && <li className="px-1.5 py-1.5 text-[13px] text-ink-2">No folder in it.</li>}
          {list.more > 0 && (
            <li className="px-1.5 py-1.5 text-[13px] text-ink-2">
              {counted(list.more, 'more folder')}: type its name.
            </li>
          )}
        </ul>
      </Scroll>
    </>
  );
}

function Row({ words, path, go }: { words: string; path: string; go: (path: string) => void }) {
  return (
    <li>
      <button
        type="button"
        onClick={() => go(path)}
        className="block min-h-7 w-full truncate rounded px-1.5 py-1 text-left text-[13.5px] hover:bg-accent-wash"
      >
        {words}
      </button>
    </li>
  );
}

/** Disks and shares that are mounted, to begin with. */
function Mounted({ mounted, at, go }: { mounted: Looked['mounted']; at: string; go: (path: string) => void }) {
  const others = mounted.filter((place) => place.path !== at && place.path !== '/');
  if (others.length === 0) return null;
  return (
    <div className="flex flex-wrap gap-1.5" role="group" aria-label="Mounted on this server">
      {others.slice(0, 24).map((place) => (
        <Button key={place.path} onClick={() => go(place.path)}>
          <span className="path">{place.path}</span> {size(place.freeBytes)} free
        </Button>
      ))}
    </div>
  );
}
