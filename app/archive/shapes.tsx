// Which timelines an archive is of, how its media lie in it, and shapes that are kept by name.
import { useState } from 'react';
import { useFetcher, useNavigate } from 'react-router';
import type { LAYOUTS, PACKED_AS } from '#core/archive/selection.ts';
import { type ArchiveScope } from '#core/archive/selection.ts';
import { KEPT_NAMES, patternTrouble } from '#core/archive/names.ts';
import { counted } from '#core/wording/amounts.ts';
import type { Answer } from '../lib/answer';
import { useAsked, useTo } from '../shell/links';
import { Fold } from '../ui/fold';
import { Button, Card, Field, inputLook, Said } from '../ui/parts';
import { Select } from '../ui/select';
import { small } from './length';
import { sameShape, scopeSearch } from './scope';
import { Tick } from './tick';
import { Scroll } from '../ui/scroll';

const QUIET = { preventScrollReset: true, replace: true };

interface ChoiceProps {
  /** Its name in the address: 'timeline' or 'bin'. */
  of: 'timeline' | 'bin';
  names: readonly string[];
  chosen: readonly string[];
  /** What nothing chosen means. */
  none: string;
}

/** Some of the project's timelines or bins, by their names. */
export function Choice({ of, names, chosen, none }: ChoiceProps) {
  const asked = useAsked();
  const navigate = useNavigate();
  const now = asked.getAll(of).filter((name) => names.includes(name));
  if (names.length === 0 || (of === 'timeline' && names.length < 2)) return null;
  const choose = (next: readonly string[]) => {
    const search = new URLSearchParams(asked);
    search.delete(of);
    for (const name of next) search.append(of, name);
    void navigate(`?${search.toString()}`, { ...QUIET, flushSync: true });
  };
  return (
    <Fold
      className="mt-1 text-[13px]"
      open={chosen.length > 0}
      line={<>{chosen.length === 0 ? none : `${counted(chosen.length, of)} of ${names.length}`}</>}
    >
      <Scroll label={of === 'timeline' ? 'Timelines' : 'Bins'} maxHeight={160} className="mt-1">
        <ul className="grid gap-0.5" aria-label={of === 'timeline' ? 'Timelines' : 'Bins'}>
          {names.map((name) => (
            <li key={name}>
              <label className="flex cursor-pointer items-baseline gap-2">
                <input
                  type="checkbox"
                  className="accent-accent"
                  checked={now.includes(name)}
                  onChange={() => choose(now.includes(name) ? now.filter((one) => one !== name) : [...now, name])}
                />
                <span className="min-w-0 break-words">{name}</span>
              </label>
            </li>
          ))}
        </ul>
      </Scroll>
    </Fold>
  );
}

const LAYOUT_WORDS: Record<(typeof LAYOUTS)[number], string> = {
  bins: 'by the bins of their clips',
  disk: 'as they lie on disk',
  kind: 'by kind',
  bundle: 'in one bundle that others open (.otiod)',
};

const PACKED_WORDS: Record<(typeof PACKED_AS)[number], string> = {
  folder: 'as a folder',
  tar: 'as one tar file',
  zip: 'as one zip file, stored',
};

/** How media lie inside, and whether the whole is one file. */
export function Package({ layout, names, pack }: Pick<ArchiveScope, 'layout' | 'names' | 'pack'>) {
  return (
    <div className="mt-3 grid gap-2 text-[13px]">
      <Worded label="Media inside lie" name="layout" value={layout} words={LAYOUT_WORDS} />
      <Names names={names} />
      <Worded label="All of it is written" name="pack" value={pack} words={PACKED_WORDS} />
    </div>
  );
}

const NAMES_WORDS: Record<string, string> = {
  [KEPT_NAMES]: 'as they are',
  '{clip}': 'after their clips',
  '{bin}_{clip}': 'after bins and clips',
};

/** Names of media: as they are, or by a pattern of one's own. */
function Names({ names }: Pick<ArchiveScope, 'names'>) {
  const to = useTo();
  const navigate = useNavigate();
  const [own, setOwn] = useState<string | null>(null);
  const known = names in NAMES_WORDS && own === null;
  const trouble = own === null ? null : patternTrouble(own);
  const ask = (pattern: string) => void navigate(to({ names: pattern === KEPT_NAMES ? null : pattern }), QUIET);
  return (
    <div>
      <label>
        They are called{' '}
        <Select
          value={known ? names : ''}
          onChange={(event) => {
            setOwn(event.target.value === '' ? names : null);
            if (event.target.value !== '') ask(event.target.value);
          }}
          className={small}
        >
          {Object.entries(NAMES_WORDS).map(([one, said]) => (
            <option key={one} value={one}>
              {said}
            </option>
          ))}
          <option value="">by a pattern</option>
        </Select>
      </label>
      {!known && (
        <label className="mt-1 block">
          Pattern of {'{file}, {clip} and {bin}'}
          <input
            value={own ?? names}
            maxLength={100}
            aria-invalid={trouble !== null}
            onChange={(event) => {
              setOwn(event.target.value);
              if (patternTrouble(event.target.value) === null) ask(event.target.value);
            }}
            className={`${inputLook} mt-1`}
          />
          {trouble && <span className="block text-loss">{trouble}</span>}
        </label>
      )}
    </div>
  );
}

const REST_WORDS: Record<ArchiveScope['rest'], string> = {
  stays: 'stays in them, as missing',
  leaves: 'leaves the documents',
};

/** What becomes, in a document, of timelines that were not chosen and of clips whose media is not there. */
export const Rest = ({ rest }: Pick<ArchiveScope, 'rest'>) => (
  <span className="block text-[13px]">
    <Worded label="What is not chosen" name="rest" value={rest} words={REST_WORDS} />
  </span>
);

interface SelectProps {
  label: string;
  /** Its name in the address. */
  name: string;
  value: string;
  words: Record<string, string>;
}

function Worded({ label, name, value, words }: SelectProps) {
  const to = useTo();
  const navigate = useNavigate();
  return (
    <label>
      {label}{' '}
      <Select
        value={value}
        onChange={(event) => void navigate(to({ [name]: event.target.value }), QUIET)}
        className={small}
      >
        {Object.entries(words).map(([one, said]) => (
          <option key={one} value={one}>
            {said}
          </option>
        ))}
      </Select>
    </label>
  );
}

/** What becomes of the work where a file cannot be read when it is its turn. */
export function GoOn({ goOn }: Pick<ArchiveScope, 'goOn'>) {
  const to = useTo();
  const navigate = useNavigate();
  const now = useAsked().get('gaps') !== 'stop';
  return (
    <Tick
      checked={now}
      onToggle={() => void navigate(to({ gaps: now ? 'stop' : null }), { ...QUIET, flushSync: true })}
      name="Go on without media that cannot be read"
      words={
        goOn
          ? 'they are named inside and in the receipt'
          : 'you are asked about each, and the work waits for the answer'
      }
    />
  );
}

interface ShapesProps {
  shapes: readonly { name: string; scope: ArchiveScope }[];
  scope: ArchiveScope;
}

const currentOf = ({ shapes, scope }: ShapesProps) => shapes.find((shape) => sameShape(shape.scope, scope));

/** Kept shapes are offered again. Whatever is chosen shows on the page at once. */
export function ShapeChoice({ shapes, scope }: ShapesProps) {
  const to = useTo();
  const navigate = useNavigate();
  const current = currentOf({ shapes, scope });
  if (shapes.length === 0) return null;
  return (
    <Select
      aria-label="Shape"
      value={current?.name ?? ''}
      onChange={(event) => {
        const shape = shapes.find((one) => one.name === event.target.value);
        if (shape) void navigate(to(scopeSearch(shape.scope)), QUIET);
      }}
      className={`${small} max-w-44 truncate text-[13px]`}
    >
      {!current && <option value="">no shape chosen</option>}
      {shapes.map((shape) => (
        <option key={shape.name} value={shape.name}>
          {shape.name}
        </option>
      ))}
    </Select>
  );
}

/** What is on the page can be kept; what is kept and on the page can be removed. */
export function Shapes({ shapes, scope }: ShapesProps) {
  const fetcher = useFetcher<Answer>();
  const [name, setName] = useState('');
  const current = currentOf({ shapes, scope });
  const send = (fields: Record<string, string>) => void fetcher.submit(fields, { method: 'post' });
  const keep = () => send({ intent: 'keep shape', name, scope: JSON.stringify(scope) });
  return (
    <Card title="Shapes kept by name">
      {current ? (
        <p className="mb-2 flex items-center justify-between gap-2">
          <b className="min-w-0 break-words">{current.name}</b>
          <Button onClick={() => send({ intent: 'forget shape', name: current.name })}>Remove it</Button>
        </p>
      ) : (
        <div className="flex items-start gap-2">
          <div className="min-w-0 flex-1">
            <Field label="Save this shape as" hint="How it is made, for any project; not what was chosen of this one.">
              <input
                value={name}
                maxLength={120}
                onChange={(event) => setName(event.target.value)}
                onKeyDown={(event) => {
                  if (event.key !== 'Enter') return;
                  event.preventDefault();
                  keep();
                }}
                className={inputLook}
              />
            </Field>
          </div>
          <Button className="mt-6" disabled={name.trim() === '' || fetcher.state !== 'idle'} onClick={keep}>
            Save
          </Button>
        </div>
      )}
      <Said answer={fetcher.data} />
    </Card>
  );
}
