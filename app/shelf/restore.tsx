// Bringing an archive back to a volume: asked for in a dialog, added to the plan.
import { Dialog } from 'radix-ui';
import { useState } from 'react';
import { useFetcher } from 'react-router';
import { size } from '#core/wording/amounts.ts';
import type { Answer } from '../lib/answer';
import { useFrame } from '../shell/use-frame';
import { Button, Field, inputLook, Said } from '../ui/parts';

interface RestoreProps {
  archive: { archiveId: number; name: string; folder: string; bytes: number };
  copyId: number;
  tone?: 'plain' | 'first';
}

export function Restore({ archive, copyId, tone = 'plain' }: RestoreProps) {
  const { volumes } = useFrame();
  const fetcher = useFetcher<Answer>();
  const [open, setOpen] = useState(false);
  const there = volumes.filter((volume) => volume.state === 'reachable');
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <Button tone={tone} aria-label={`Restore ${archive.name}`}>
          Restore
        </Button>
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
          <fetcher.Form method="post" action={`/shelf/${archive.archiveId}`} className="grid gap-3">
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
