// Homes: for each kind of a project's files, the place where they belong; and what has strayed from it. A shared library
// is everybody's and never strays; kinds without a home have nowhere to stray from.
import type { Kind, VolumeId } from '../model.ts';
import { endingOf, liesIn } from '../paths.ts';

export interface Home {
  kind: Kind;
  volumeId: VolumeId;
  /** Folder inside the volume; '' for the whole of it. */
  folder: string;
}

/** A home in a template: `folder` may hold {project} and {year}, which a new project fills in. */
export interface TemplateHome {
  kind: Kind;
  volumeId: VolumeId;
  folder: string;
}

/** The homes a template gives a project. */
export const homesFrom = (template: readonly TemplateHome[], project: { slug: string; year: number }): Home[] =>
  template.map((home) => ({
    ...home,
    folder: home.folder.replaceAll('{project}', project.slug).replaceAll('{year}', String(project.year)),
  }));

/** What a folder holds of one kind of a project. */
export interface Holding {
  kind: Kind;
  volumeId: VolumeId;
  folder: string;
  files: number;
  bytes: number;
}

/** Kinds that have homes. What is 'other' is nobody's to place, and a library is shared. */
export const KINDS_WITH_HOMES: readonly Kind[] = [
  'source',
  'proxy',
  'render',
  'cache',
  'audio',
  'document',
  'backup',
  'delivery',
];

/** Sound by its ending: for what is borrowed from a library, whose kind says nothing of what it is. */
const SOUNDS = new Set(['wav', 'bwf', 'rf64', 'aif', 'aiff', 'mp3', 'm4a', 'flac', 'ogg', 'opus']);

/** In which home of a project a copy of somebody else's file belongs. */
export const homeKindOf = ({ kind, name }: { kind: Kind; name: string }): Kind =>
  kind === 'source' || kind === 'audio' || kind === 'proxy' || kind === 'render'
    ? kind
    : SOUNDS.has(endingOf(name))
      ? 'audio'
      : 'source';

export const isAtHome = (holding: Pick<Holding, 'volumeId' | 'folder'>, home: Home): boolean =>
  holding.volumeId === home.volumeId && liesIn(holding.folder, home.folder);

/** A folder on another volume where a project keeps what it has parked. */
export interface Parked {
  projectId: number;
  volumeId: VolumeId;
  folder: string;
}

/** What is parked has not strayed: a person put it there. */
export const isParked = (
  at: Pick<Holding, 'volumeId' | 'folder'> & { projectId: number },
  parked: readonly Parked[],
): boolean =>
  parked.some(
    (place) => place.projectId === at.projectId && place.volumeId === at.volumeId && liesIn(at.folder, place.folder),
  );

export interface Strays {
  kind: Kind;
  volumeId: VolumeId;
  files: number;
  bytes: number;
}

/** What lies outside its home, by kind and volume, the most first. */
export function straysOf(holdings: readonly Holding[], homes: readonly Home[]): Strays[] {
  const byKind = new Map(homes.map((home) => [home.kind, home]));
  const sums = new Map<string, Strays>();
  for (const holding of holdings) {
    const home = byKind.get(holding.kind);
    if (!home || holding.files === 0 || isAtHome(holding, home)) continue;
    const key = `${holding.kind} ${holding.volumeId}`;
    const sum = sums.get(key) ?? { kind: holding.kind, volumeId: holding.volumeId, files: 0, bytes: 0 };
    sum.files += holding.files;
    sum.bytes += holding.bytes;
    sums.set(key, sum);
  }
  return [...sums.values()].sort((a, b) => b.bytes - a.bytes);
}

/**
 * Homes as people seem to mean them: for each kind the volume with most of its bytes, and there the deepest folder that
 * holds at least nine tenths of what that volume has. A suggestion only; a person keeps or changes it.
 */
export function suggestHomes(holdings: readonly Holding[]): Home[] {
  return KINDS_WITH_HOMES.flatMap((kind) => {
    const own = holdings.filter((holding) => holding.kind === kind && holding.bytes > 0);
    if (own.length === 0) return [];
    const byVolume = new Map<VolumeId, number>();
    for (const holding of own) byVolume.set(holding.volumeId, (byVolume.get(holding.volumeId) ?? 0) + holding.bytes);
    const [volumeId, bytes] = [...byVolume].sort((a, b) => b[1] - a[1])[0]!;
    return [
      {
        kind,
        volumeId,
        folder: deepestWith(
          own.filter((holding) => holding.volumeId === volumeId),
          bytes * 0.9,
        ),
      },
    ];
  });
}

/** The deepest folder below which at least `least` bytes lie; '' where only the whole does. */
function deepestWith(holdings: readonly Holding[], least: number): string {
  const below = new Map<string, number>();
  for (const { folder, bytes } of holdings)
    for (let at = folder; ; at = at.slice(0, Math.max(0, at.lastIndexOf('/')))) {
      below.set(at, (below.get(at) ?? 0) + bytes);
      if (at === '') break;
    }
  return (
    [...below]
      .filter(([, bytes]) => bytes >= least)
      .sort(
        (a, b) =>
          b[0].split('/').length - a[0].split('/').length || b[0].length - a[0].length || (a[0] < b[0] ? -1 : 1),
      )[0]?.[0] ?? ''
  );
}
