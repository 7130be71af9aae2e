// Shelf: carriers as jars, archives with their copies; from here a project comes back, and originals may be let go.
import { Dialog } from 'radix-ui';
import { useState } from 'react';
import { useFetcher } from 'react-router';
import type { Route } from './+types/shelf';
import { ago, count, counted, day, exactTime, size } from '#core/wording/amounts.ts';
import { Jar, LAYER_COLOURS } from '../charts/jar';
import type { Answer } from '../lib/answer';
import { useFrame } from '../shell/use-frame';
import { Button, Chip, Empty, Field, inputLook, Said, Sentence } from '../ui/parts';

export { loader, action } from './shelf.server.ts';

type Data = Route.ComponentProps['loaderData'];
type Archive = Data['archives'][number];

export default function Shelf({ loaderData: data }: Route.ComponentProps) {
  const fetcher = useFetcher<Answer>();
  return (
    <div className="grid gap-4">
      <Sentence>{data.sentence}</Sentence>
      <Said answer={fetcher.data} />
      <ul aria-label="Carriers" className="grid grid-cols-[repeat(auto-fill,minmax(230px,1fr))] gap-3">
        {data.carriers.map((carrier) => (
          <li key={carrier.carrierId} className="card flex gap-4">
            <Jar name={carrier.name} layers={carrier.layers} capacity={carrier.capacityBytes} />
            <div className="min-w-0">
              <div className="path font-semibold">{carrier.name}</div>
              <div className="truncate text-[13px] text-ink-2" title={carrier.place}>
                {carrier.type}, {carrier.place}
              </div>
              <ul className="mt-1 text-[13px]">
                {carrier.layers.slice(0, 3).map((layer, i) => (
                  <li key={layer.archiveId} className="flex items-center gap-1.5 truncate">
                    <span
                      aria-hidden
                      className="size-2 shrink-0 rounded-[2px]"
                      style={{ background: LAYER_COLOURS[i % LAYER_COLOURS.length] }}
                    />
                    <span className="truncate">{layer.name}</span>{' '}
                    <span className="text-ink-2">{size(layer.bytes)}</span>
                  </li>
                ))}
                {carrier.layers.length > 3 && <li className="text-ink-2">and {carrier.layers.length - 3} more</li>}
              </ul>
              <div className="mt-1">
                <Chip tone={carrier.state === 'reachable' ? (carrier.layers.length > 0 ? 'ok' : 'plain') : 'caution'}>
                  {carrier.state !== 'reachable'
                    ? 'not in reach'
                    : `${carrier.layers.length === 0 ? 'empty, ' : ''}${size(carrier.freeBytes)} free`}
                </Chip>
              </div>
            </div>
          </li>
        ))}
      </ul>
      <div className="card">
        <h2 className="card-title mb-1">Archives</h2>
        {data.archives.length === 0 ? (
          <Empty>Nothing is archived yet. Shape an archive in the Archive lens.</Empty>
        ) : (
          <Archives data={data} submit={fetcher} />
        )}
      </div>
    </div>
  );
}

function Archives({ data, submit }: { data: Data; submit: ReturnType<typeof useFetcher<Answer>> }) {
  return (
    <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="Archives and their copies">
      <table className="table">
        <thead>
          <tr>
            <th>Archive</th>
            <th>Sealed</th>
            <th className="number">Size</th>
            <th className="number">Files</th>
            <th>Copies on</th>
            <th>State</th>
            <th className="number">Originals online</th>
            <th>
              <span className="sr-only">What can be done</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {data.archives.map((archive) => (
            <ArchiveRow key={archive.archiveId} archive={archive} nowMs={data.nowMs} submit={submit} />
          ))}
        </tbody>
      </table>
    </div>
  );
}

interface CopiesProps {
  archive: Archive;
  good: number;
  readBack: number | null;
  nowMs: number;
}

function ReadBack({ archive, submit }: { archive: Archive; submit: ReturnType<typeof useFetcher<Answer>> }) {
  return (
    <submit.Form method="post" className="block">
      <input type="hidden" name="archiveId" value={archive.archiveId} />
      <button
        type="submit"
        name="intent"
        value="read back"
        aria-label={`Read back ${archive.name} now`}
        className="text-[13px] whitespace-nowrap text-accent underline"
      >
        Read back now
      </button>
    </submit.Form>
  );
}

/** How sure an archive is: its good copies, when they were read back, and what is short of what the house wants. */
function Copies({ archive, good, readBack, nowMs }: CopiesProps) {
  return (
    <>
      {archive.state === 'writing' ? (
        <Chip>writing</Chip>
      ) : good === 0 ? (
        <Chip tone="loss">no good copy</Chip>
      ) : (
        <Chip tone="ok" title={readBack === null ? undefined : exactTime(readBack)}>
          {counted(good, 'copy', 'copies')}, read back {readBack === null ? '' : ago(readBack, nowMs)}
        </Chip>
      )}
      {archive.gaps > 0 && (
        <>
          {' '}
          <Chip
            tone="caution"
            title="They could not be read when it was written. Its README and its receipt name them."
          >
            {counted(archive.gaps, 'file')} could not go in
          </Chip>
        </>
      )}
      {archive.short !== null && good > 0 && (
        <>
          {' '}
          <Chip tone="caution" title="The house wants more: Settings, Removing and archives">
            {archive.short}
          </Chip>
        </>
      )}
    </>
  );
}

function ArchiveRow({
  archive,
  nowMs,
  submit,
}: {
  archive: Archive;
  nowMs: number;
  submit: ReturnType<typeof useFetcher<Answer>>;
}) {
  const good = archive.copies.filter((copy) => copy.state === 'good');
  const times = good.map((copy) => copy.readBackMs);
  // Of several copies the one that was not looked at for longest.
  const readBack = times.length > 0 && times.every((ms) => ms !== null) ? Math.min(...times.map(Number)) : null;
  return (
    <tr className="h-11">
      <td className="max-w-56 truncate" title={archive.lies}>
        <span className="font-medium">{archive.name}</span>
        <span className="path block text-ink-2">{archive.lies}</span>
      </td>
      <td title={archive.sealedMs === null ? undefined : exactTime(archive.sealedMs)}>
        {archive.sealedMs === null ? '' : day(archive.sealedMs)}
      </td>
      <td className="number font-semibold">{size(archive.bytes)}</td>
      <td className="number">{count(archive.files)}</td>
      <td className="path">{archive.copies.map((copy) => copy.carriers.map((one) => one.name).join(' + ')).join(', ')}</td>
      <td className="max-w-48 py-1.5 leading-6 whitespace-normal">
        <Copies archive={archive} good={good.length} readBack={readBack} nowMs={nowMs} />
        {archive.state === 'sealed' && <ReadBack archive={archive} submit={submit} />}
      </td>
      <td className="number">{archive.originalsBytes > 0 ? size(archive.originalsBytes) : 'gone'}</td>
      <td className="number">
        {archive.state === 'sealed' && good.length > 0 && (
          <span className="inline-grid justify-items-end gap-1.5">
            {archive.originalsBytes > 0 && (
              <submit.Form method="post">
                <input type="hidden" name="archiveId" value={archive.archiveId} />
                <Button
                  type="submit"
                  name="intent"
                  value="originals"
                  aria-label={`Add the removal of the originals of ${archive.name} to the plan`}
                >
                  Add originals to the plan
                </Button>
              </submit.Form>
            )}
            <Restore archive={archive} copyId={good[0]!.copyId} />
          </span>
        )}
      </td>
    </tr>
  );
}

function Restore({ archive, copyId }: { archive: Archive; copyId: number }) {
  const { volumes } = useFrame();
  const fetcher = useFetcher<Answer>();
  const [open, setOpen] = useState(false);
  const there = volumes.filter((volume) => volume.state === 'reachable');
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <Button aria-label={`Restore ${archive.name}`}>Restore</Button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ground/80" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-1/2 left-1/2 z-40 w-[440px] -translate-x-1/2 -translate-y-1/2 rounded-[10px] border border-line bg-raised p-5 focus:outline-none"
        >
          <Dialog.Title className="sentence mb-3 !text-lg">
            Restore {archive.name}, {size(archive.bytes)}
          </Dialog.Title>
          <fetcher.Form method="post" className="grid gap-3">
            <input type="hidden" name="intent" value="restore" />
            <input type="hidden" name="archiveId" value={archive.archiveId} />
            <input type="hidden" name="copyId" value={copyId} />
            <Field label="To the volume">
              <select name="volumeId" className={inputLook} required>
                {there.map((volume) => (
                  <option key={volume.volumeId} value={volume.volumeId}>
                    {volume.name}, {size(Math.max(0, volume.capacityBytes - volume.usedBytes))} free
                  </option>
                ))}
              </select>
            </Field>
            <Field label="In a folder named" hint="A new one: nothing is ever written over.">
              <input
                name="folder"
                className={inputLook}
                defaultValue={archive.folder.replace(/_\d{4}-\d\d-\d\d$/, ' restored')}
                required
                maxLength={250}
              />
            </Field>
            <Said answer={fetcher.data} />
            <div className="mt-1 flex justify-end gap-2">
              <Dialog.Close asChild>
                <Button>Close</Button>
              </Dialog.Close>
              <Button tone="first" type="submit" disabled={fetcher.state !== 'idle'}>
                Add the restore to the plan
              </Button>
            </div>
          </fetcher.Form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
