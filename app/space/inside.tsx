// The second level of the map and its colours: asked once the map is on the screen, and again where it shows something else.
import { useEffect } from 'react';
import { useFetcher } from 'react-router';
import { z } from 'zod';
import type { Kind } from '#core/model.ts';
import { useKept } from '../lib/kept';
import { useAsked } from '../shell/links';
import { kindColour } from '../ui/parts';
import { OneOf } from '../ui/one-of';
import { shade } from '../charts/strata';
import type { Route } from './+types/space';
import type { loader } from './inner-data.server.ts';

type Data = Route.ComponentProps['loaderData'];

const COLOURS = ['kind', 'project', 'age'] as const;
type Colour = (typeof COLOURS)[number];
const asColour = z.enum(COLOURS);

/** Projects with a colour of their own: the largest; the others share one. */
const OWN_COLOURS: Kind[] = ['source', 'render', 'audio', 'proxy', 'cache', 'delivery'];

type Loaded = ReturnType<typeof useFetcher<typeof loader>>['data'];
type InnerArea = NonNullable<Loaded>['inside'][string][number];

export interface InnerMap {
  isShown: boolean;
  colour: Colour;
  setColour: (colour: Colour) => void;
  colourOf: (key: string) => string | null;
  inside: (key: string) => (InnerArea & { colour: string | null })[];
  /** What the colours mean, of those that are on the map. */
  means: { name: string; colour: string }[];
}

export function useInside(data: Data): InnerMap {
  const [colour, setColour] = useKept<Colour>('space map colour', asColour, 'kind');
  const search = useAsked();
  const fetcher = useFetcher<typeof loader>();
  const isShown = data.by === 'folder' && data.narrowed.length === 0 && data.rows.length > 0;
  const query = new URLSearchParams({ colour });
  if (data.folder) query.set('folder', String(data.folder.folderId));
  else if (search.get('v')) query.set('v', search.get('v')!);
  const address = isShown ? `/space/inside?${query.toString()}` : null;
  // What changed on the map is asked for again.
  const held = data.rows.reduce((sum, row) => sum + row.bytes, 0);
  const { load } = fetcher;
  useEffect(() => {
    if (address) void load(address);
  }, [address, held, load]);
  const inner = isShown ? fetcher.data : undefined;
  const meaning = meaningOf(inner, data);
  return {
    ...{ isShown, colour, setColour },
    colourOf: (key) => (inner ? meaning.colourOf(inner.most[key] ?? null) : null),
    inside: (key) => (inner?.inside[key] ?? []).map((one) => ({ ...one, colour: meaning.colourOf(one.most) })),
    means: meaning.means,
  };
}

function meaningOf(inner: Loaded, data: Data) {
  const colour = inner?.colour;
  const on = new Map<string, number>();
  for (const list of Object.values(inner?.inside ?? {}))
    for (const { most, bytes } of list) if (most !== null) on.set(most, (on.get(most) ?? 0) + bytes);
  for (const [key, most] of Object.entries(inner?.most ?? {}))
    if (!inner?.inside[key]) on.set(most, (on.get(most) ?? 0) + (data.rows.find((row) => row.key === key)?.bytes ?? 0));
  const byBytes = [...on].sort((a, b) => b[1] - a[1]).map(([most]) => most);
  if (colour === 'kind') {
    const colourOf = (most: string | null) => (most === null ? null : kindColour(most as Kind));
    return { colourOf, means: byBytes.map((kind) => ({ name: kind, colour: kindColour(kind as Kind) })) };
  }
  if (colour === 'age') {
    const colourOf = (most: string | null) => (most === null ? null : shade(Number(most)));
    const ages = [...on.keys()].map(Number).sort((a, b) => a - b);
    return { colourOf, means: ages.map((i) => ({ name: data.layers[i]?.name ?? '', colour: shade(i) })) };
  }
  const own = byBytes.filter((id) => id !== '0').slice(0, OWN_COLOURS.length);
  const others = 'var(--ink-3)';
  const colourOf = (most: string | null) =>
    most === null || most === '0' ? null : own.includes(most) ? kindColour(OWN_COLOURS[own.indexOf(most)]!) : others;
  const means = own.map((id) => ({ name: inner?.projects[id] ?? '', colour: colourOf(id)! }));
  return {
    colourOf,
    means: byBytes.some((id) => id !== '0' && !own.includes(id))
      ? [...means, { name: 'other projects', colour: others }]
      : means,
  };
}

/** Which attribute colours the map, and what each colour stands for: what has most of the bytes. */
export function ColourKey({ inner: { colour, setColour, means } }: { inner: InnerMap }) {
  return (
    <div className="mt-2 flex flex-wrap items-center gap-x-4 gap-y-1 text-[13px] text-ink-2">
      <span className="flex items-center gap-2">
        Coloured by
        <OneOf
          label="Coloured by"
          values={COLOURS.map((key) => ({ key, words: key }))}
          chosen={colour}
          onChoose={setColour}
        />
      </span>
      <ul aria-label="What the colours are" className="flex flex-wrap gap-x-4">
        {means.map(({ name, colour: own }) => (
          <li key={name} className="max-w-48 truncate" title={name}>
            <span
              aria-hidden
              className="mr-1.5 inline-block size-2.5 rounded-[3px] border border-ink-3"
              style={{ background: own }}
            />
            {name}
          </li>
        ))}
      </ul>
    </div>
  );
}
