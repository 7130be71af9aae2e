// Rules for caches: what runs at night by itself, and what a rule would have done over the last weeks before it is saved.
import { rulesForm } from '#contract/forms.ts';
import { useState } from 'react';
import { Form as Asking, Link, useFetcher } from 'react-router';
import type { Route } from './+types/rules';
import { ago, exactTime, inWords, size } from '#core/wording/amounts.ts';
import { replaySentence } from '#core/wording/reclaim.ts';
import { ReplayChart } from '../charts/replay-chart';
import type { Answer } from '../lib/answer';
import { useLens } from '../shell/links';
import { useFrame } from '../shell/use-frame';
import { Form } from '../ui/form';
import { Button, Card, Chip, Empty, Field, inputLook, Said, Sentence, VolumeOptions } from '../ui/parts';
import { Select } from '../ui/select';

export { loader, action } from './rules.server.ts';

type Data = Route.ComponentProps['loaderData'];

export default function Rules({ loaderData: data }: Route.ComponentProps) {
  const lens = useLens();
  const atNight = data.rules.filter((rule) => rule.atNight).length;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Sentence
        above={
          <Link to={lens('/reclaim/caches')} className="hover:underline">
            Caches
          </Link>
        }
      >
        {atNight === 0
          ? 'No rule runs at night. Caches go when somebody removes them.'
          : `${inWords(atNight).replace(/^./, (letter) => letter.toUpperCase())} ${atNight === 1 ? 'rule runs' : 'rules run'} at night by ${atNight === 1 ? 'itself' : 'themselves'}.`}
      </Sentence>
      <div className="grid grid-cols-[minmax(0,1fr)] wide:grid-cols-[minmax(0,0.9fr)_minmax(0,1.1fr)] items-start gap-4">
        <div className="grid gap-4">
          <Kept data={data} />
          <NewRule data={data} />
        </div>
        <Looked data={data} />
      </div>
    </div>
  );
}

function Kept({ data }: { data: Data }) {
  const fetcher = useFetcher<Answer>();
  return (
    <Card title="Rules">
      {data.rules.length === 0 ? (
        <Empty>None yet. Look at one below before you save it.</Empty>
      ) : (
        <ul className="rows" aria-label="Rules">
          {data.rules.map((rule) => (
            <li key={rule.ruleId} className="flex items-center gap-3 py-2">
              <div className="min-w-0 flex-1">
                <div className="font-medium">
                  {rule.words} {rule.atNight && <Chip tone="ok">at night</Chip>}
                </div>
                <div className="truncate text-[13px] text-ink-2">
                  at most {size(rule.mostBytes)} a night
                  {rule.except.length > 0 && `, not in ${rule.except.join(', ')}`}
                </div>
                <div className="truncate text-[13px] text-ink-2" title={rule.said ?? undefined}>
                  {rule.ranAtMs === null ? (
                    'It has not run yet.'
                  ) : (
                    <span title={exactTime(rule.ranAtMs)}>
                      {ago(rule.ranAtMs, Math.max(data.nowMs, rule.ranAtMs))}: {rule.said}
                    </span>
                  )}
                </div>
              </div>
              <Form fetcher={fetcher} schema={rulesForm} method="post">
                <input type="hidden" name="ruleId" value={rule.ruleId} />
                <Button type="submit" name="intent" value="drop" aria-label={`Take away: ${rule.words}`}>
                  Take away
                </Button>
              </Form>
            </li>
          ))}
        </ul>
      )}
      <Said answer={fetcher.data} />
    </Card>
  );
}

function NewRule({ data }: { data: Data }) {
  const { given } = data;
  const [by, setBy] = useState(given.by === 'cap' ? 'cap' : 'age');
  return (
    <Card title="A new rule">
      <Asking className="grid gap-3">
        <fieldset className="grid gap-1.5">
          <legend className="sr-only">By</legend>
          {(
            [
              ['age', 'By age', 'suits quick turnaround: what a job left behind goes after it'],
              ['cap', 'By a cap', 'suits long-running work: what is at work stays, however old it is'],
            ] as const
          ).map(([value, name, about]) => (
            <label key={value} className="flex items-baseline gap-2">
              <input
                type="radio"
                name="by"
                value={value}
                checked={by === value}
                onChange={() => setBy(value)}
                className="accent-accent"
              />
              <span>
                {name} <span className="text-[13px] text-ink-2">{about}</span>
              </span>
            </label>
          ))}
        </fieldset>
        <Where data={data} by={by} />
        <Button type="submit">Show what it would have done</Button>
        {data.trouble && (
          <p role="alert" className="rounded-lg bg-loss-wash px-3 py-2 text-[13px] text-loss">
            {data.trouble} Nothing was saved.
          </p>
        )}
      </Asking>
    </Card>
  );
}

function Where({ data, by }: { data: Data; by: string }) {
  const { volumes } = useFrame();
  const { given } = data;
  return (
    <>
      <div className="grid grid-cols-2 gap-3">
        <Field label="On">
          <Select name="volumeId" className={inputLook} defaultValue={given.volumeId}>
            <VolumeOptions volumes={volumes} />
          </Select>
        </Field>
        {by === 'age' ? (
          <Field label="Not changed for, in days">
            <input key="days" name="days" inputMode="numeric" className={inputLook} defaultValue={given.days ?? '30'} />
          </Field>
        ) : (
          <Field label="At most, in GB">
            <input key="cap" name="cap" inputMode="decimal" className={inputLook} defaultValue={given.cap ?? '40'} />
          </Field>
        )}
      </div>
      <div className="grid grid-cols-2 gap-3">
        <Field label="Of">
          <Select name="projectId" className={inputLook} defaultValue={given.projectId ?? ''}>
            <option value="">every project</option>
            {data.projects.map((project) => (
              <option key={project.projectId} value={project.projectId}>
                {project.name}
              </option>
            ))}
          </Select>
        </Field>
        <Field label="Not in these folders">
          <input name="except" className={`${inputLook} path`} defaultValue={given.except} placeholder="none" />
        </Field>
      </div>
    </>
  );
}

function Looked({ data }: { data: Data }) {
  const fetcher = useFetcher<Answer>();
  const { looked, given } = data;
  if (looked === null)
    return (
      <Card title="What it would have done">
        <Empty>Look at a rule, and the last eight weeks are played with it.</Empty>
      </Card>
    );
  return (
    <Card title={looked.words}>
      <p className="mb-2">{replaySentence(looked)}</p>
      {looked.days.length > 1 && <ReplayChart days={looked.days} />}
      {looked.suggestedCapBytes !== null && (
        <p className="mt-2 text-[13px] text-ink-2">
          With a cap of {size(looked.suggestedCapBytes)} the volume stays below nine tenths for a month, if everything
          else goes on as it did.
        </p>
      )}
      <Form fetcher={fetcher} schema={rulesForm} method="post" className="mt-3 grid gap-3">
        {Object.entries(given).map(([name, value]) => (
          <input key={name} type="hidden" name={name} value={value} />
        ))}
        <div className="flex items-end gap-4">
          <div className="w-40">
            <Field label="At most a night, in GB">
              <input name="most" inputMode="decimal" className={inputLook} defaultValue="50" />
            </Field>
          </div>
          <label className="flex h-8 items-center gap-2">
            <input type="checkbox" name="atNight" defaultChecked className="accent-accent" />
            runs at night by itself
          </label>
          <Button tone="first" type="submit" name="intent" value="save" disabled={fetcher.state !== 'idle'}>
            Save the rule
          </Button>
        </div>
        <Said answer={fetcher.data} />
      </Form>
    </Card>
  );
}
