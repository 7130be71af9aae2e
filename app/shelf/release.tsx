// What a sealed archive lets go of: its originals, and what stayed out of it, by kind, each with how replaceable it is.
import { archiveForm } from '#contract/forms.ts';
import { useState } from 'react';
import { useFetcher } from 'react-router';
import { LEVEL_WORDS } from '#core/model.ts';
import { counted, size } from '#core/wording/amounts.ts';
import { GROUP_WORDS } from '#core/wording/reclaim.ts';
import { Tick } from '../archive/tick';
import type { Answer } from '../lib/answer';
import { Form } from '../ui/form';
import { Button, Card, LevelMark, Said } from '../ui/parts';
import type { Route } from './+types/archive';

type Data = Route.ComponentProps['loaderData'];

/** What rebuilds itself is ticked. What is made again needs the originals back first: somebody decides that. */
const usuallyTicked = (parts: Data['release']['parts']) =>
  parts.filter((part) => part.level === 0).map((part) => part.key);

const goneWords = (isTakenIn: boolean): string =>
  isTakenIn
    ? 'It was taken in where it lies: no volume of the house holds originals of it.'
    : 'Its originals are gone, and nothing else of its project is left that could go.';

export function Release({ data: { archive, release, project, stayedOut } }: { data: Data }) {
  const fetcher = useFetcher<Answer>();
  const { originals: own, parts } = release;
  // Of a project that goes on, an archive leaves everything alone unless somebody says otherwise.
  const isInWork = project?.isInWork ?? false;
  const [originals, setOriginals] = useState(!isInWork);
  const [ticked, setTicked] = useState<string[]>(() => (isInWork ? [] : usuallyTicked(parts)));
  if (archive.state !== 'sealed') return null;
  if (own.files === 0 && parts.length === 0) return <Card title="Release">{goneWords(stayedOut !== null)}</Card>;
  const toggle = (key: string) =>
    setTicked(ticked.includes(key) ? ticked.filter((one) => one !== key) : [...ticked, key]);
  const chosen = parts.filter((part) => ticked.includes(part.key));
  const takes = originals && own.files > 0;
  const bytes = chosen.reduce((sum, part) => sum + part.bytes, takes ? own.bytes : 0);
  return (
    <Card title="Release" aside={bytes > 0 ? <b>{size(bytes)}</b> : undefined}>
      <Form fetcher={fetcher} schema={archiveForm} method="post" className="grid gap-2">
        <input type="hidden" name="intent" value="release" />
        <input type="hidden" name="originals" value={takes ? 'yes' : 'no'} />
        <input type="hidden" name="parts" value={chosen.map((part) => part.key).join(',')} />
        <ul className="rows">
          {own.files > 0 && (
            <Tick
              checked={originals}
              onToggle={() => setOriginals(!originals)}
              name={
                <>
                  <LevelMark level={2} /> Originals
                </>
              }
              amount={<b>{size(own.bytes)}</b>}
              words={`${counted(own.files, 'file')}, each read back from a copy before it goes; what was borrowed stays`}
            />
          )}
          {parts.map((part) => (
            <Tick
              key={part.key}
              checked={ticked.includes(part.key)}
              onToggle={() => toggle(part.key)}
              name={
                <>
                  <LevelMark level={part.level} /> {GROUP_WORDS[part.group].name}
                </>
              }
              amount={<b>{size(part.bytes)}</b>}
              words={`${counted(part.files, 'file')}: ${LEVEL_WORDS[part.level]}${part.level === 1 && takes ? ' once it is restored' : ''}, ${part.level <= 1 ? 'goes for good' : 'set aside'}`}
            />
          ))}
        </ul>
        {isInWork && <p className="text-[13px] text-caution">{project!.name} is still in work.</p>}
        <Said answer={fetcher.data} />
        <Button tone="first" type="submit" disabled={bytes === 0 || fetcher.state !== 'idle'}>
          Add the release to the plan
        </Button>
      </Form>
    </Card>
  );
}
