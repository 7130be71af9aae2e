// How an archive is shaped, as an address: what is asked for is in the address, so that it can be sent and gone back to.
import { KEPT_NAMES, patternTrouble } from '#core/archive/names.ts';
import { encodingsFrom, encodingsText } from '#core/archive/encoding.ts';
import { type Handles, handlesFrom, handlesText, ownLengthsFrom } from '#core/archive/lengths.ts';
import {
  type ArchiveScope,
  LAYOUTS,
  LEFT_OUT,
  PACKED_AS,
  USUAL_HAND_OVER,
  USUAL_SCOPE,
} from '#core/archive/selection.ts';

/** The same page shapes what is handed over. */
export const isHandOver = (search: URLSearchParams): boolean => search.get('for') === 'hand-over';

/** `?in=delivery,render&versions=newest&handles=1s&gap=2&data=drop&own=12:whole,15:2s&timeline=…&layout=disk&pack=tar&encode=render:viewing`; without them what is usual. */
export function scopeIn(search: URLSearchParams): ArchiveScope {
  const usual = isHandOver(search) ? USUAL_HAND_OVER : USUAL_SCOPE;
  const parts = search.get('in');
  const oneOf = <T extends string>(known: readonly T[], name: string) => known.find((one) => one === search.get(name));
  return {
    parts: parts === null ? usual.parts : LEFT_OUT.filter((part) => parts.split(',').includes(part)),
    versions: oneOf(['all', 'newest'] as const, 'versions') ?? usual.versions,
    handles: handlesIn(search),
    timelines: search.getAll('timeline').slice(0, 500),
    bins: search.getAll('bin').slice(0, 500),
    files: [],
    goOn: search.get('gaps') !== 'stop',
    layout: oneOf(LAYOUTS, 'layout') ?? usual.layout,
    names:
      patternTrouble(search.get('names') ?? KEPT_NAMES) === null ? (search.get('names') ?? KEPT_NAMES) : KEPT_NAMES,
    pack: oneOf(PACKED_AS, 'pack') ?? usual.pack,
    rest: oneOf(['stays', 'leaves'] as const, 'rest') ?? usual.rest,
    originals: usual.originals,
    encode: encodingsFrom(search.get('encode') ?? ''),
  };
}

function handlesIn(search: URLSearchParams): Handles | null {
  const handles = handlesFrom(search.get('handles') ?? '', search.get('gap') ?? '') ?? null;
  if (!handles) return null;
  const own = ownLengthsFrom(search.get('own') ?? '');
  return {
    ...handles,
    ...(search.get('data') === 'drop' ? { withoutData: true } : {}),
    ...(own.length > 0 ? { own } : {}),
  };
}

/** Clips that were chosen on the project's page. */
export const clipsIn = (search: URLSearchParams): number[] => numbersIn(search.get('clips') ?? '');

const numbersIn = (text: string): number[] =>
  text
    .split(',')
    .map(Number)
    .filter((n) => Number.isSafeInteger(n) && n > 0)
    .slice(0, 5000);

/** The same the other way; of a shape that is kept, what was chosen of one project is not part. */
export const scopeSearch = ({
  parts,
  versions,
  handles,
  layout,
  names,
  goOn,
  pack,
  rest,
  encode,
}: ArchiveScope): Record<string, string | null> => ({
  in: parts.join(','),
  versions,
  handles: handles && handlesText(handles),
  gap: handles && String(handles.gapSeconds),
  data: handles?.withoutData ? 'drop' : null,
  layout,
  names: names === KEPT_NAMES ? null : names,
  gaps: goOn ? null : 'stop',
  pack,
  rest,
  encode: encodingsText(encode) || null,
});

/** Two shapes that make the same of a project, whatever is chosen of it. */
export const sameShape = (a: ArchiveScope, b: ArchiveScope): boolean =>
  JSON.stringify(scopeSearch({ ...a, parts: [...a.parts].sort() })) ===
  JSON.stringify(scopeSearch({ ...b, parts: [...b.parts].sort() }));
