// The decisions that wait, worked out from what is known, the one that hurts soonest first. The site lens lists them,
// each with the one action that opens the right thing.
import { type Forecast, forecastWords } from '../forecast/forecast.ts';
import type { Kind, ProjectId, VolumeId } from '../model.ts';
import { ago, counted, percentFull, size } from './amounts.ts';

export interface DecisionFacts {
  nowMs: number;
  volumes: readonly {
    volumeId: VolumeId;
    name: string;
    duty: string;
    state: string;
    capacityBytes: number;
    usedBytes: number;
    cacheBytes: number;
    sourceBytes: number;
    seenMs: number | null;
    readMs: number | null;
    forecast?: Forecast;
  }[];
  projects: readonly {
    projectId: ProjectId;
    name: string;
    state: string;
    sinceMs: number;
    bytes: number;
    missing: number;
    archived: boolean;
  }[];
  strays: readonly {
    projectId: ProjectId;
    project: string;
    state: string;
    kind: Kind;
    volume: string;
    bytes: number;
  }[];
  brokenDocuments: readonly { projectId: ProjectId; name: string; trouble: string }[];
}

export type DecisionAction =
  | { go: 'reclaim'; volumeId: VolumeId; words: 'Review caches' }
  | { go: 'space'; volumeId: VolumeId; words: 'Look' }
  | { go: 'read'; volumeId: VolumeId; words: 'Read it' }
  | { go: 'archive'; projectId: ProjectId; words: 'Start archive' }
  | { go: 'project'; projectId: ProjectId; words: 'Open project' };

export interface Decision {
  key: string;
  weight: 'loss' | 'caution' | 'plain';
  what: string;
  detail: string;
  action: DecisionAction | null;
}

const WEIGHTS = { loss: 0, caution: 1, plain: 2 };
const FULL = 0.95;
const TIGHT = 0.85;
const WORTH_TELLING = 1e9;
const SOON_DAYS = 21;
const STALE_MS = 3 * 86_400_000;

export function decisions(facts: DecisionFacts): Decision[] {
  const all = [
    ...facts.volumes.flatMap((volume) => ofVolume(volume, facts)),
    ...facts.projects.flatMap((project) => ofProject(project, facts.nowMs)),
    ...facts.strays
      .filter((stray) => stray.bytes >= WORTH_TELLING && stray.state !== 'delivered' && stray.state !== 'archived')
      .map(strayed),
    ...facts.brokenDocuments.map(broken),
  ];
  return all.sort((a, b) => WEIGHTS[a.weight] - WEIGHTS[b.weight]);
}

function ofVolume(volume: DecisionFacts['volumes'][number], { nowMs, strays }: DecisionFacts): Decision[] {
  const { volumeId, name } = volume;
  const found: Decision[] = [];
  if (volume.state === 'swapped') {
    found.push({
      key: `swapped ${volumeId}`,
      weight: 'loss',
      what: `Another disk is mounted where ${name} belongs`,
      detail: `What is known of ${name} is kept. Nothing on it is touched until it is back.`,
      action: null,
    });
  } else if (volume.state === 'unreachable') {
    found.push({
      key: `away ${volumeId}`,
      weight: 'plain',
      what: `${name} cannot be reached`,
      detail:
        volume.seenMs === null
          ? 'It was never seen.'
          : `Last seen ${ago(volume.seenMs, nowMs)}. What is known of it is kept.`,
      action: null,
    });
  }
  const share = volume.capacityBytes > 0 ? volume.usedBytes / volume.capacityBytes : 0;
  const fills = volume.forecast?.says === 'fills' && volume.forecast.days <= SOON_DAYS ? volume.forecast : null;
  if (share >= TIGHT || fills) {
    const caches = volume.cacheBytes >= WORTH_TELLING;
    found.push({
      key: `full ${volumeId}`,
      weight: share >= FULL || (fills && fills.earliest <= 7) ? 'loss' : 'caution',
      what: fills
        ? `${name} is ${forecastWords(fills)}`
        : `${name} is ${percentFull(volume.usedBytes, volume.capacityBytes)} % full`,
      detail: `${size(Math.max(0, volume.capacityBytes - volume.usedBytes))} left${caches ? `, ${size(volume.cacheBytes)} of caches there` : ', no caches there to speak of'}`,
      action: caches ? { go: 'reclaim', volumeId, words: 'Review caches' } : { go: 'space', volumeId, words: 'Look' },
    });
  }
  // Where it is a project's stray it is told as that, once.
  const known = strays.some(
    (stray) => stray.volume === name && stray.kind === 'source' && stray.bytes >= WORTH_TELLING,
  );
  if (volume.duty === 'none' && volume.sourceBytes >= WORTH_TELLING && !known)
    found.push({
      key: `media ${volumeId}`,
      weight: 'caution',
      what: `Media on ${name}`,
      detail: `${size(volume.sourceBytes)} of source lies on a drive that is not for it`,
      action: { go: 'space', volumeId, words: 'Look' },
    });
  if (volume.state === 'reachable' && volume.readMs === null)
    found.push({
      key: `unread ${volumeId}`,
      weight: 'plain',
      what: `${name} was never read`,
      detail: 'Nothing is known of what it holds.',
      action: { go: 'read', volumeId, words: 'Read it' },
    });
  else if (volume.state === 'reachable' && volume.readMs !== null && nowMs - volume.readMs > STALE_MS)
    found.push({
      key: `stale ${volumeId}`,
      weight: 'plain',
      what: `${name} was last read ${ago(volume.readMs, nowMs)}`,
      detail: 'What is shown of it may be old.',
      action: { go: 'read', volumeId, words: 'Read it' },
    });
  return found;
}

function ofProject(project: DecisionFacts['projects'][number], nowMs: number): Decision[] {
  const { projectId, name } = project;
  const found: Decision[] = [];
  if (project.state === 'delivered' && project.bytes > 0)
    found.push({
      key: `delivered ${projectId}`,
      weight: 'caution',
      what: `${name} was delivered ${ago(project.sinceMs, nowMs)}`,
      detail: `${size(project.bytes)} still online, ${project.archived ? 'archived, originals still there' : 'nothing archived yet'}`,
      action: { go: 'archive', projectId, words: 'Start archive' },
    });
  if (project.missing > 0 && project.state !== 'archived')
    found.push({
      key: `missing ${projectId}`,
      weight: 'caution',
      what: `${counted(project.missing, 'piece')} of media of ${name} cannot be found`,
      detail: 'Its document names files that no volume holds',
      action: { go: 'project', projectId, words: 'Open project' },
    });
  return found;
}

const strayed = (stray: DecisionFacts['strays'][number]): Decision => ({
  key: `stray ${stray.projectId} ${stray.kind} ${stray.volume}`,
  weight: 'caution',
  what: `${stray.project} has strayed to ${stray.volume}`,
  detail: `${size(stray.bytes)} of its ${stray.kind} lies outside its home`,
  action: { go: 'project', projectId: stray.projectId, words: 'Open project' },
});

const broken = (document: DecisionFacts['brokenDocuments'][number]): Decision => ({
  key: `broken ${document.name}`,
  weight: 'loss',
  what: `${document.name} cannot be read`,
  detail: `${document.trouble}. What an earlier reading told is kept.`,
  action: { go: 'project', projectId: document.projectId, words: 'Open project' },
});
