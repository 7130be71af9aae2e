// Words of the reclaim lens: groups, reasons, what it takes to have things again, and the sentences above.
import type { Level } from '../model.ts';
import { LEVEL_WORDS } from '../model.ts';
import type { CacheRule } from '../reclaim/rules.ts';
import type { Group, Reason } from '../reclaim/worth.ts';
import { capital, count, duration, listed, size } from './amounts.ts';

export const GROUP_WORDS: Record<Group, { name: string; about: string }> = {
  caches: { name: 'Caches', about: 'rebuilt when a project opens' },
  renders: { name: 'Renders', about: 'made again from their timelines' },
  proxies: { name: 'Proxies', about: 'made again from their sources' },
  'unused media': { name: 'Unused media', about: 'no timeline uses it' },
  'same twice': { name: 'The same file twice', about: 'the same bytes stay in another place' },
  'old backups': { name: 'Old backups', about: 'enough newer ones stay' },
  'left behind': { name: 'What else finished projects have', about: 'neither used nor of another group' },
  'nobody’s': { name: 'Nobody’s', about: 'no project owns it' },
  'empty folders': { name: 'Empty folders', about: 'nothing lies in them or below' },
};

export const REASON_WORDS: Record<Reason, string> = {
  'rebuilds itself': 'rebuilt when it is needed',
  'rendered again': 'current: its project was not changed since',
  'no timeline known': 'no timeline of its project is known',
  'source is found': 'its source is found',
  'source not found': 'its source is not found',
  'no timeline uses it': 'no timeline uses it',
  'in a bin alone': 'in a bin, in no timeline',
  'named by nothing': 'no document names it',
  'kept elsewhere': 'the same bytes lie on another volume',
  'enough newer ones': 'enough newer backups stay',
  'project is archived': 'its project is archived',
  'project is delivered': 'its project is delivered',
  'belongs to nobody': 'no project owns it',
  'older than its project': 'stale: its project was changed since',
  'nothing in it': 'nothing lies in it or below',
  'twice on its volume': 'the same bytes lie on its volume once more',
};

/** Of two that lie on one volume: for that volume they are the only copy. */
export const ONE_VOLUME = 'on one volume alone';

/** What it takes to have again what goes for good. */
export const AGAIN_WORDS: Partial<Record<Reason, string>> = {
  'rebuilds itself': 'rebuilt when a project opens',
  'rendered again': 'rendered again from its timelines',
  'older than its project': 'rendered again from its timelines',
  'source is found': 'made again from its source',
};

const OF_TITLE: Record<Group, string> = {
  caches: 'caches',
  renders: 'renders',
  proxies: 'proxies',
  'unused media': 'unused media',
  'same twice': 'second copies',
  'old backups': 'old backups',
  'left behind': 'what was left behind',
  'nobody’s': 'what nobody owns',
  'empty folders': 'empty folders',
};

/** "renders of Night Ferry and Brine Road", as a title goes on. */
export function groupWords(group: Group, projects: readonly string[]): string {
  const named = projects.length > 0 && projects.length <= 3 ? ` of ${listed(projects)}` : '';
  return `${OF_TITLE[group]}${named}`;
}

/** What the bytes of each level are, in a sentence; `of` begins with a space, or is empty. */
export function worthSentence(byLevel: Record<Level, number>, of: string, group?: Group): string {
  const words = group === 'same twice' ? { ...LEVEL_PARTS, 3: `is ${ONE_VOLUME}` } : LEVEL_PARTS;
  const levels = ([0, 1, 2, 3] as const).filter((level) => byLevel[level] > 0);
  const all = levels.reduce<number>((sum, level) => sum + byLevel[level], 0);
  if (all === 0) return `Nothing${of} can go.`;
  const [first] = levels;
  if (levels.length === 1) return `${size(all)}${of} can go; all of it ${words[first!]}.`;
  const parts = levels.map((level) => `${size(byLevel[level])} ${words[level]}`);
  return `${size(all)}${of} can go: ${listed(parts)}.`;
}

export function emptySentence(folders: number): string {
  if (folders === 0) return 'No folder is empty that could go.';
  return folders === 1
    ? '1 folder with nothing in it can go.'
    : `${count(folders)} folders with nothing in them can go.`;
}

const LEVEL_PARTS: Record<Level, string> = {
  0: LEVEL_WORDS[0],
  1: LEVEL_WORDS[1],
  2: 'has a verified copy',
  3: 'is the only copy',
};

export function goalSentence(facts: {
  wantedBytes: number;
  bytes: number;
  isReached: boolean;
  volume: string;
  byLevel: Record<Level, number>;
  costSeconds: number;
}): string {
  const { wantedBytes, bytes, isReached, volume, byLevel, costSeconds } = facts;
  if (bytes === 0) return `Nothing of this kind can go from ${volume}.`;
  const top = ([3, 2, 1, 0] as const).find((level) => byLevel[level] > 0)!;
  const worst =
    top === 0
      ? 'all of it rebuilds itself'
      : top === 1
        ? 'all of it can be made again'
        : top === 2
          ? 'all of it has a verified copy or can be made again'
          : `${size(byLevel[3])} of it is the only copy`;
  const cost = costSeconds >= 60 ? `, in about ${duration(costSeconds)} if all of it is needed` : '';
  const goes = `${size(bytes)} on ${volume} can go; ${worst}${cost}.`;
  return isReached ? capital(goes) : `Only ${goes} That is ${size(wantedBytes - bytes)} short.`;
}

export function asideSentence(facts: { files: number; bytes: number; oldestDays: number | null }): string {
  if (facts.files === 0) return 'Nothing is set aside.';
  const old =
    facts.oldestDays === null || facts.oldestDays < 1
      ? 'since today'
      : `the oldest for ${facts.oldestDays} ${facts.oldestDays === 1 ? 'day' : 'days'}`;
  return `${size(facts.bytes)} is set aside, ${old}. It still takes its space.`;
}

/** "caches on loft-1 scratch older than 30 days", "at most 40 GB of caches on loft-1 scratch". */
export function ruleWords(rule: CacheRule, { volume, project }: { volume: string; project: string | null }): string {
  const of = project === null ? '' : ` of ${project}`;
  return rule.by === 'age'
    ? `caches${of} on ${volume} not changed for ${rule.days} ${rule.days === 1 ? 'day' : 'days'}`
    : `at most ${size(rule.capBytes)} of caches${of} on ${volume}`;
}

export function replaySentence(sums: {
  removedBytes: number;
  rebuiltBytes: number;
  mostBytes: number;
  mostRuledBytes: number;
}): string {
  if (sums.mostBytes === 0) return 'No caches were seen there in the last eight weeks.';
  if (sums.removedBytes === 0) return 'Over the last eight weeks it would have removed nothing.';
  const rebuilt =
    sums.rebuiltBytes === 0
      ? 'none of it was made again within a week'
      : `at most ${size(sums.rebuiltBytes)} of it was made again within a week`;
  return `Over the last eight weeks it would have removed ${size(sums.removedBytes)}; ${rebuilt}. On the fullest day ${size(sums.mostRuledBytes)} of caches instead of ${size(sums.mostBytes)}.`;
}

/** What removing gave back, and why it is not what the files say of themselves. */
export function freedSentences(
  bytes: number,
  freed: { allocatedBytes: number; linkedBytes: number; measuredBytes: number | null },
): string[] {
  const { allocatedBytes, linkedBytes, measuredBytes } = freed;
  const holes = bytes - linkedBytes - allocatedBytes;
  return [
    `${size(allocatedBytes)} on the medium, as its files took it`,
    ...(linkedBytes > 0
      ? [`${size(linkedBytes)} has other names still (hard links), so it takes its space as before`]
      : []),
    ...(holes > bytes / 100 ? [`${size(holes)} of their size was never written: files with holes, or compressed`] : []),
    ...(measuredBytes === null
      ? []
      : [
          measuredBytes >= 0
            ? `${size(measuredBytes)} more was free on the volume afterwards; blocks shared with other files, snapshots and what others write count in that too`
            : `${size(-measuredBytes)} less was free on the volume afterwards: others wrote there meanwhile`,
        ]),
  ];
}
