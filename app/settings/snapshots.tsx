// Snapshots of documents: where they go, how often, and how long they stay.
import { useFetcher } from 'react-router';
import { Button, Card, Field, inputLook, NumberField, Said } from '../ui/parts';
import { KeptFor } from './kept-for';
import type { action, loader } from './settings.server.ts';

type Data = Awaited<ReturnType<typeof loader>>;

export function Snapshots({ data }: { data: Data }) {
  const fetcher = useFetcher<typeof action>();
  const { snapshots, volumes } = data;
  return (
    <Card title="Snapshots of documents">
      <fetcher.Form method="post" className="grid gap-4">
        <input type="hidden" name="intent" value="snapshots" />
        <Field
          label="Volume that they go to"
          hint="Another disk than the documents’: what lies on it itself gets no snapshots there."
        >
          <select name="volumeId" defaultValue={snapshots.volumeId ?? ''} className={inputLook}>
            <option value="">none: no snapshots are made</option>
            {volumes.map((volume) => (
              <option key={volume.volumeId} value={volume.volumeId}>
                {volume.name}
              </option>
            ))}
          </select>
        </Field>
        <NumberField
          name="everyMinutes"
          label="Minutes between two of one document, at least"
          value={snapshots.everyMinutes}
        />
        <KeptFor legend="What is kept of each document" rule={snapshots} />
        <p className="text-[13px] text-ink-2">
          A document of a project in work is kept when it changed and nobody writes it; only whole ones count. They lie
          in the folder .keramion/snapshots of the volume, by project and document, and can be opened from there by
          hand.
        </p>
        <div>
          <Button tone="first" type="submit" disabled={fetcher.state !== 'idle'}>
            Save
          </Button>
        </div>
        <Said answer={fetcher.data?.answer} />
      </fetcher.Form>
    </Card>
  );
}
