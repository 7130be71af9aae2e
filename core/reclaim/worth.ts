// What may go of a site's files, and how much would be lost with each: the group it is offered in, one of four levels, and
// why. Pure; the services bring the facts of a file, the steps look at them once more when they run. Doubt means keep.
import type { Kind, Level, ProjectState } from '../model.ts';

/** Groups in which files are offered; a file is in one at most. Caches are told by folder and not file by file. */
export const GROUPS = [
  'caches',
  'renders',
  'proxies',
  'unused media',
  'same twice',
  'old backups',
  'left behind',
  'nobody’s',
  'empty folders',
] as const;
export type Group = (typeof GROUPS)[number];

export const REASONS = [
  'rebuilds itself',
  'rendered again',
  'no timeline known',
  'source is found',
  'source not found',
  'no timeline uses it',
  'in a bin alone',
  'named by nothing',
  'kept elsewhere',
  'enough newer ones',
  'project is archived',
  'project is delivered',
  'belongs to nobody',
  'older than its project',
  'nothing in it',
  'twice on its volume',
] as const;
export type Reason = (typeof REASONS)[number];

export interface WorthFacts {
  kind: Kind;
  /** State of the project that it belongs to; null where it is nobody's. */
  projectState: ProjectState | null;
  /** A timeline uses it, of a project that is not archived; or a member of its unit is so used. */
  used: boolean;
  /** A document names it, in a timeline or not. */
  named: boolean;
  /** Of a render: its project's documents were changed after it. */
  isStale: boolean;
  /** Its project has timelines that can be read. */
  hasTimelines: boolean;
  /** Of a proxy: a source of its name is there, in its project. */
  hasSource: boolean;
  /** Of a backup: it is one of those that thinning takes. */
  isThinned: boolean;
  /** Read back from an archive as it is now. */
  isArchived: boolean;
  /** It lies on a disk that a station boots from. */
  onSystemDrive: boolean;
  /** Of the same content as another that stays, and the one of the two that may go: where that other lies; null where there is none. */
  twin: 'elsewhere' | 'here' | null;
}

export interface Worth {
  group: Group;
  level: Level;
  reason: Reason;
}

/** What may go where the same lies on its volume once more. A document or a backup lies where it does for a reason. */
const GOES_HERE: ReadonlySet<Kind> = new Set(['source', 'audio', 'render', 'proxy', 'delivery', 'library', 'other']);

/** Null: it is not offered. */
export function worthOf(facts: WorthFacts): Worth | null {
  const { kind } = facts;
  // A copy that stays, or one in an archive, makes the difference between the last two levels.
  const level: Level = facts.isArchived || facts.twin === 'elsewhere' ? 2 : 3;
  if (kind === 'cache') return facts.named ? null : { group: 'caches', level: 0, reason: 'rebuilds itself' };
  if (facts.used) return null;
  if (facts.twin === 'elsewhere') return { group: 'same twice', level: 2, reason: 'kept elsewhere' };
  // A volume that dies takes both of its own: for that volume it is the only copy, though nothing is lost when one of the two goes.
  if (facts.twin === 'here' && GOES_HERE.has(kind))
    return { group: 'same twice', level, reason: 'twice on its volume' };
  if (kind === 'render' && !facts.named)
    return facts.hasTimelines
      ? { group: 'renders', level: 1, reason: facts.isStale ? 'older than its project' : 'rendered again' }
      : { group: 'renders', level, reason: 'no timeline known' };
  if (kind === 'proxy' && !facts.named)
    return facts.hasSource
      ? { group: 'proxies', level: 1, reason: 'source is found' }
      : { group: 'proxies', level, reason: 'source not found' };
  if (kind === 'backup') return facts.isThinned ? { group: 'old backups', level, reason: 'enough newer ones' } : null;
  if (facts.projectState === 'archived') return leftOf(kind, level);
  return ofTheLiving(facts, level);
}

/** Of an archived project all that is still there; what stayed out of its archive is the only copy. */
function leftOf(kind: Kind, level: Level): Worth | null {
  // A library is everybody's, whoever used it.
  if (kind === 'library') return null;
  return { group: 'left behind', level, reason: 'project is archived' };
}

function ofTheLiving({ kind, projectState, named, onSystemDrive }: WorthFacts, level: Level): Worth | null {
  // A document, a delivery and a library are never offered while their project lives: they are the work itself.
  if (kind === 'document' || kind === 'delivery' || kind === 'library') return null;
  // What a system is made of is nobody's, and nobody's to remove.
  if (projectState === null && !named && onSystemDrive && kind === 'other') return null;
  if (projectState === null)
    return named
      ? { group: 'unused media', level, reason: 'in a bin alone' }
      : { group: 'nobody’s', level, reason: 'belongs to nobody' };
  if (kind === 'source' || kind === 'audio' || named)
    return { group: 'unused media', level, reason: named ? 'in a bin alone' : 'named by nothing' };
  return projectState === 'delivered' ? { group: 'left behind', level, reason: 'project is delivered' } : null;
}

/** Groups whose files are removed for good at these levels; all else is set aside. */
export const isForGood = (level: Level): level is 0 | 1 => level < 2;
