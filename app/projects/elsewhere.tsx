// Where a project's media lie, as a whole: parked on another volume, gathered into its homes, brought back. Each goes into
// the plan and moves nothing before that is run.
import { projectForm } from '#contract/forms.ts';
import { useState } from 'react';
import { useFetcher } from 'react-router';
import type { Route } from './+types/project';
import { counted, size } from '#core/wording/amounts.ts';
import type { Answer } from '../lib/answer';
import { useAsked } from '../shell/links';
import { useFrame } from '../shell/use-frame';
import { Form } from '../ui/form';
import { Button, Card, Field, inputLook, Said, Sentence } from '../ui/parts';
import { Sheet } from '../ui/sheet';
import { Select } from '../ui/select';

type Data = Route.ComponentProps['loaderData'];

export function Elsewhere({ data }: { data: Data }) {
  // Reclaim leads here with it open.
  const [open, setOpen] = useState(useAsked().get('move') === '1');
  return (
    <div>
      <Button onClick={() => setOpen(true)}>Move its media</Button>
      <Sheet open={open} onOpen={setOpen} title={`Move the media of ${data.project.name}`}>
        <div className="mb-3 flex items-start justify-between slim:flex-wrap gap-4">
          <Sentence above="Nothing moves before the plan is run; documents that name what moves get a new version beside the old one">
            Where should the media of {data.project.name} be?
          </Sentence>
          <Button onClick={() => setOpen(false)}>Close</Button>
        </div>
        <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,1fr)_minmax(0,1fr)] items-start gap-4">
          <Park data={data} />
          <div className="grid gap-4">
            <Gather data={data} />
            {data.parked.length > 0 && <BringBack data={data} />}
          </div>
        </div>
      </Sheet>
    </div>
  );
}

const MEDIA = ['source', 'audio'];

function Park({ data }: { data: Data }) {
  const fetcher = useFetcher<Answer>();
  const { volumes } = useFrame();
  const all = data.holdings.filter((row) => MEDIA.includes(row.kind)).reduce((sum, row) => sum + row.bytes, 0);
  const choices = [
    {
      which: 'unused',
      bytes: data.media.unusedBytes,
      name: 'What no timeline uses',
      hint: 'its homes stay as they are',
    },
    { which: 'all', bytes: all, name: 'All of its media', hint: 'its home from then on' },
  ];
  return (
    <Card title="Park on another volume" aside="still known, nothing to relink by hand">
      <Form fetcher={fetcher} schema={projectForm} method="post" className="grid gap-3">
        <fieldset className="grid gap-1.5">
          <legend className="sr-only">What is parked</legend>
          {choices.map(({ which, bytes, name, hint }, i) => (
            <label key={which} className="flex items-baseline gap-2">
              <input
                type="radio"
                name="which"
                value={which}
                defaultChecked={i === (data.media.unusedBytes > 0 ? 0 : 1)}
                className="accent-accent"
              />
              <span>
                {name} <span className="text-[13px] text-ink-2">{hint}</span>
              </span>
              <b className="ml-auto">{size(bytes)}</b>
            </label>
          ))}
        </fieldset>
        <Field label="Volume">
          <Select name="volumeId" className={inputLook}>
            {volumes
              .map((volume) => ({ ...volume, freeBytes: volume.capacityBytes - volume.usedBytes }))
              .sort((a, b) => b.freeBytes - a.freeBytes)
              .map((volume) => (
                <option key={volume.volumeId} value={volume.volumeId}>
                  {volume.name}, {size(volume.freeBytes)} free
                </option>
              ))}
          </Select>
        </Field>
        <Button tone="first" type="submit" name="intent" value="park" disabled={fetcher.state !== 'idle'}>
          Add the parking to the plan
        </Button>
        <Said answer={fetcher.data} />
      </Form>
    </Card>
  );
}

function Gather({ data }: { data: Data }) {
  const strayed = data.strays.reduce((sum, stray) => sum + stray.bytes, 0);
  const borrowed = data.borrowed.reduce((sum, row) => sum + row.bytes, 0);
  return (
    <Card title="Gather into its homes">
      <dl className="mb-3 grid grid-cols-[minmax(0,1fr)_auto] gap-y-1">
        <dt>Its own that has strayed is moved home</dt>
        <dd className="text-right font-semibold">{size(strayed)}</dd>
        <dt>
          What it borrows is copied{' '}
          <span className="text-[13px] text-ink-2">
            {counted(data.borrowed.length, 'file')} of others, and of libraries
          </span>
        </dt>
        <dd className="text-right font-semibold">{size(borrowed)}</dd>
      </dl>
      <Adding intent="gather">Add the gathering to the plan</Adding>
    </Card>
  );
}

function BringBack({ data }: { data: Data }) {
  return (
    <Card title="Parked">
      <ul className="rows mb-3">
        {data.parked.map((place) => (
          <li key={`${place.volumeId} ${place.folder}`} className="flex items-baseline gap-2 py-1">
            <span className="min-w-0 truncate">
              {place.volume} <span className="path text-ink-2">{place.folder}</span>
            </span>
            <span className="ml-auto whitespace-nowrap text-ink-2">{counted(place.files, 'file')}</span>
            <b className="whitespace-nowrap">{size(place.bytes)}</b>
          </li>
        ))}
      </ul>
      <Adding intent="bring back">Add bringing it back to the plan</Adding>
    </Card>
  );
}

/** A button that adds something to the plan, and what was answered. */
function Adding({ intent, children }: { intent: string; children: React.ReactNode }) {
  const fetcher = useFetcher<Answer>();
  return (
    <Form fetcher={fetcher} schema={projectForm} method="post">
      <Button type="submit" name="intent" value={intent} disabled={fetcher.state !== 'idle'}>
        {children}
      </Button>
      <Said answer={fetcher.data} />
    </Form>
  );
}
