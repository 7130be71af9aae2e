// The decisions that wait, worked out from what is known, the one that hurts soonest first. The site lens lists them,
// each with the one action that opens the right thing.
import { type Forecast, forecastWords } from '../forecast/forecast.ts';
import type { ArchiveId, CarrierId, Kind, ProjectId, VolumeId } from '../model.ts';
import { ago, capital, counted, day, percentFull, size } from './amounts.ts';

export interface DecisionFacts {
  nowMs: number;
  volumes: readonly {
    volumeId: VolumeId;
    name: string;
    duty: string;
    state: string;
    capacityBytes: number;
    usedBytes: number;
    systemDrive: boolean;
    shared: boolean;
    readOnly: boolean;
    byKind: readonly { kind: Kind; bytes: number }[];
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
  /** What belongs to no project, by volume. */
  ownerless: readonly { volumeId: VolumeId; volume: string; bytes: number; files: number }[];
  /** Homes that nobody can write to now. */
  homeTroubles: readonly { projectId: ProjectId; project: string; kind: Kind; volume: string; why: string }[];
  brokenDocuments: readonly { projectId: ProjectId; name: string; trouble: string }[];
  /** Copies that did not read back as they were sealed. */
  damagedCopies?: readonly { archiveId: ArchiveId; archive: string; carrier: string; others: number }[];
  /** Archives that have fewer good copies than the house wants, or in fewer places. */
  shortArchives?: readonly { archiveId: ArchiveId; name: string; folder: string; short: string }[];
  /** What the last check of everything found; null where none was made, or it found nothing. */
  check?: { findings: number; example: string; atMs: number } | null;
  /** What is wrong with the house's own backups; null where nothing is. */
  ownBackup?: { what: string; detail: string } | null;
  /** Why what is told by itself does not arrive; null where it does. */
  post?: string | null;
  /** What is wrong with the snapshots of documents, and of which project. */
  snapshots?: readonly { what: string; detail: string; projectId: ProjectId | null; isBroken?: boolean }[];
  /** Sounds of libraries in a compressed form, by volume. */
  compressedSounds?: readonly { volumeId: VolumeId; volume: string; files: number; bytes: number }[];
  /** Carriers that are late, or older than the house wants. */
  carriers?: readonly {
    carrierId: CarrierId;
    name: string;
    late: { to: string; dueMs: number } | null;
    years: number | null;
  }[];
  /** Work that asks what is to become of a file. */
  asked?: readonly { jobId: number; title: string; path: string; why: string }[];
  /** Work that waits for a carrier. */
  waiting?: readonly { title: string; carrierId: CarrierId; carrier: string; where: string }[];
  /** Copies whose read-back is due, and whose carriers are not in reach. */
  dueReadBacks?: readonly {
    archiveId: ArchiveId;
    archive: string;
    carrier: string;
    place: string;
    isCold?: boolean;
    readBackMs: number | null;
  }[];
  /** Archives that were to be kept until a day that has come. */
  timeIsOver?: readonly { archiveId: ArchiveId; name: string; untilMs: number }[];
  /** What is set aside. */
  aside?: { files: number; bytes: number; oldestMs: number | null };
}

export type DecisionAction =
  | { go: 'reclaim'; volumeId: VolumeId; words: 'Review caches' }
  /** The least regretful that frees so much, as a proposal. */
  | { go: 'goal'; volumeId: VolumeId; gigabytes: number; words: string }
  | { go: 'space'; volumeId: VolumeId; kind?: Kind; project?: 0; words: 'Show files' }
  | { go: 'read'; volumeId: VolumeId; words: 'Read it' }
  | { go: 'archive'; projectId: ProjectId; words: 'Start archive' }
  | { go: 'project'; projectId: ProjectId; words: 'Open project' }
  | { go: 'aside'; words: 'Show it' }
  /** The work itself, which asks. */
  | { go: 'work'; words: 'Answer' }
  | { go: 'backup'; words: 'Show it' }
  | { go: 'post'; words: 'Show it' }
  | { go: 'snapshots'; projectId: ProjectId | null; words: 'Show it' }
  /** The page of a carrier. */
  | { go: 'carrier'; carrierId: CarrierId; words: 'Show it' }
  /** The page of an archive, where another copy of it is asked for. */
  | { go: 'shelf'; archiveId: ArchiveId; words: 'Make another copy' | 'Repair it' | 'Show it' }
  | { go: 'missing'; projectId: ProjectId; words: 'Find them' | 'Find it' };

export interface Decision {
  key: string;
  weight: 'loss' | 'caution' | 'plain';
  what: string;
  detail: string;
  action: DecisionAction | null;
  /** Nobody should wait for the morning to hear of it. */
  isUrgent?: boolean;
}

const WEIGHTS = { loss: 0, caution: 1, plain: 2 };
/** What is left is written in an hour. */
const BRIMFUL = 0.99;
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
    ...facts.homeTroubles.map(homeTrouble),
    ...facts.ownerless.filter((row) => row.bytes >= WORTH_TELLING).map(nobodys),
    ...facts.brokenDocuments.map(broken),
    ...(facts.damagedCopies ?? []).map(damagedCopy),
    ...(facts.snapshots ?? []).map(snapshotWorry),
    ...(facts.shortArchives ?? []).map(shortOfCopies),
    ...(facts.carriers ?? []).flatMap((carrier) => ofCarrier(carrier, facts.nowMs)),
    ...(facts.asked ?? []).map(asksAbout),
    ...(facts.waiting ?? []).map(waitsForCarrier),
    ...(facts.dueReadBacks ?? []).map((copy) => readBackDue(copy, facts.nowMs)),
    ...(facts.timeIsOver ?? []).map((one) => keptLongEnough(one)),
    ...(facts.check ? [checkDiffers(facts.check, facts.nowMs)] : []),
    ...(facts.ownBackup
      ? [
          {
            key: 'backup',
            weight: 'loss' as const,
            isUrgent: true,
            ...facts.ownBackup,
            action: { go: 'backup', words: 'Show it' } as const,
          },
        ]
      : []),
    ...(facts.post ? [notArriving(facts.post)] : []),
    ...asideLong(facts),
    ...(facts.compressedSounds ?? []).filter((row) => row.files >= MANY_SOUNDS).map(compressed),
  ];
  return all.sort((a, b) => WEIGHTS[a.weight] - WEIGHTS[b.weight]);
}

/** Fewer are decoded in a moment, and not worth a line. */
const MANY_SOUNDS = 20;

const compressed = (row: NonNullable<DecisionFacts['compressedSounds']>[number]): Decision => ({
  key: `compressed ${row.volumeId}`,
  weight: 'plain',
  what: `${counted(row.files, 'sound')} of the library on ${row.volume} are compressed`,
  detail: `${size(row.bytes)} as they lie. Programs decode each they use into a cache of their own, several times as large: kept as WAV they would not.`,
  action: { go: 'space', volumeId: row.volumeId, kind: 'library', words: 'Show files' },
});

const notArriving = (why: string): Decision => ({
  key: 'post',
  weight: 'caution',
  what: 'What the house is told by mail or posted does not arrive',
  detail: `${capital(why)}${/[.!?]$/.test(why) ? '' : '.'} It is tried again by itself for two days`,
  action: { go: 'post', words: 'Show it' },
});

/** After so long nobody comes for what was set aside. */
const ASIDE_DAYS = 30;

function asideLong({ aside, nowMs }: DecisionFacts): Decision[] {
  if (!aside || aside.oldestMs === null || aside.files === 0) return [];
  const days = Math.floor((nowMs - aside.oldestMs) / 86_400_000);
  if (days < ASIDE_DAYS) return [];
  return [
    {
      key: 'aside',
      weight: 'plain',
      what: `${size(aside.bytes)} is set aside, the oldest for ${days} days`,
      detail: 'It still takes its space. Take it back, or remove it for good',
      action: { go: 'aside', words: 'Show it' },
    },
  ];
}

const shortOfCopies = (archive: NonNullable<DecisionFacts['shortArchives']>[number]): Decision => ({
  key: `short ${archive.folder}`,
  weight: 'caution',
  what: `The archive of ${archive.name} has ${archive.short}`,
  detail: `${archive.folder}: where its carrier is lost, so is what it alone holds. Write another, or change what the house wants`,
  action: { go: 'shelf', archiveId: archive.archiveId, words: 'Make another copy' },
});

function ofCarrier({ carrierId, name, late, years }: NonNullable<DecisionFacts['carriers']>[number], nowMs: number) {
  const found: Decision[] = [];
  const action = { go: 'carrier' as const, carrierId, words: 'Show it' as const };
  if (late)
    found.push({
      key: `late ${carrierId}`,
      weight: 'caution',
      what: `${name} is lent to ${late.to} and was due back ${ago(late.dueMs, nowMs)}`,
      detail: 'Ask for it, or say when it will be back',
      action,
    });
  if (years !== null)
    found.push({
      key: `old ${carrierId}`,
      weight: 'caution',
      what: `${name} is in use for ${counted(years, 'year')}`,
      detail: 'That is longer than the house wants. Copy what it holds to a fresh carrier',
      action,
    });
  return found;
}

const asksAbout = ({ jobId, title, path, why }: NonNullable<DecisionFacts['asked']>[number]): Decision => ({
  key: `asks ${jobId}`,
  weight: 'caution',
  what: `${title} waits for an answer`,
  detail: `${path} cannot go in: ${why}. Leave it out, or try again; what is written is kept`,
  action: { go: 'work', words: 'Answer' },
});

const waitsForCarrier = (work: NonNullable<DecisionFacts['waiting']>[number]): Decision => ({
  key: `waits ${work.carrierId} ${work.title}`,
  weight: 'caution',
  what: `${work.title} waits for ${work.carrier}`,
  detail: `${capital(work.where)}. Connect it, and the work goes on by itself`,
  action: { go: 'carrier', carrierId: work.carrierId, words: 'Show it' },
});

const readBackDue = (copy: NonNullable<DecisionFacts['dueReadBacks']>[number], nowMs: number): Decision => ({
  key: `unread copy ${copy.archiveId} ${copy.carrier}`,
  weight: 'plain',
  what: `The copy of ${copy.archive} on ${copy.carrier} is due to be read back`,
  detail: `${copy.readBackMs === null ? 'It was never read back' : `Last read back ${ago(copy.readBackMs, nowMs)}`}. ${copy.isCold ? 'It has to be brought up for it, so it is read when you ask' : `Connect ${copy.carrier} (${copy.place}), and it is read at night`}`,
  action: { go: 'shelf', archiveId: copy.archiveId, words: 'Show it' },
});

const keptLongEnough = ({ archiveId, name, untilMs }: NonNullable<DecisionFacts['timeIsOver']>[number]): Decision => ({
  key: `kept ${archiveId}`,
  weight: 'plain',
  what: `${name} was to be kept until ${day(untilMs)}`,
  detail: 'Keep it longer, or let it go. Nothing goes by itself',
  action: { go: 'shelf', archiveId, words: 'Show it' },
});

const damagedCopy = (copy: NonNullable<DecisionFacts['damagedCopies']>[number]): Decision => ({
  key: `damaged ${copy.archive} ${copy.carrier}`,
  weight: 'loss',
  isUrgent: true,
  what: `The copy of ${copy.archive} on ${copy.carrier} is damaged`,
  detail:
    copy.others > 0
      ? `${counted(copy.others, 'other copy', 'other copies')} of it ${copy.others === 1 ? 'is' : 'are'} good. Repair it from there`
      : 'There is no other copy. Do not remove what is left of its originals',
  action: { go: 'shelf', archiveId: copy.archiveId, words: copy.others > 0 ? 'Repair it' : 'Show it' },
});

const snapshotWorry = ({
  what,
  detail,
  projectId,
  isBroken,
}: NonNullable<DecisionFacts['snapshots']>[number]): Decision => ({
  ...(isBroken ? { isUrgent: true } : {}),
  ...{ key: `snapshots ${projectId ?? ''} ${what}`, weight: 'caution', what, detail },
  action: { go: 'snapshots', projectId, words: 'Show it' },
});

const checkDiffers = (check: NonNullable<DecisionFacts['check']>, nowMs: number): Decision => ({
  key: 'check',
  weight: 'caution',
  what: `The last check found ${counted(check.findings, 'thing')} that ${check.findings === 1 ? 'differs' : 'differ'}`,
  detail: `${capital(ago(check.atMs, nowMs))}, for example ${check.example}. keramion check tells all of it`,
  action: null,
});

/** Kinds that a volume of some duty is not for, with what they would be doing there. */
const MISPLACED: readonly { kind: Kind; fits: (volume: Volume) => boolean; words: string }[] = [
  {
    kind: 'source',
    fits: (volume) => volume.systemDrive || volume.duty === 'cache' || volume.duty === 'renders',
    words: 'of source lies where it is not kept safe',
  },
  { kind: 'cache', fits: (volume) => volume.shared, words: 'of caches, rebuilt by one station, on storage of all' },
  {
    kind: 'render',
    fits: (volume) => volume.duty === 'source' || volume.duty === 'documents' || volume.systemDrive,
    words: 'of renders on a volume meant for something else',
  },
];

type Volume = DecisionFacts['volumes'][number];
const bytesOf = (volume: Volume, kind: Kind) => volume.byKind.find((row) => row.kind === kind)?.bytes ?? 0;

/** What lies on a volume that is not for it; where it is a project's stray it is told as that, once. */
function misplaced(volume: Volume, strays: DecisionFacts['strays']): Decision[] {
  return MISPLACED.filter(
    ({ kind, fits }) =>
      fits(volume) &&
      bytesOf(volume, kind) >= WORTH_TELLING &&
      !strays.some((stray) => stray.volume === volume.name && stray.kind === kind && stray.bytes >= WORTH_TELLING),
  ).map(({ kind, words }) => ({
    key: `misplaced ${kind} ${volume.volumeId}`,
    weight: kind === 'source' ? 'caution' : 'plain',
    what: `${capital(KIND_PLURALS[kind] ?? kind)} on ${volume.name}${volume.systemDrive ? ', a system drive' : volume.shared ? ', a shared store' : ''}`,
    detail: `${size(bytesOf(volume, kind))} ${words}`,
    action:
      kind === 'cache'
        ? { go: 'reclaim', volumeId: volume.volumeId, words: 'Review caches' }
        : { go: 'space', volumeId: volume.volumeId, kind, words: 'Show files' },
  }));
}

const KIND_PLURALS: Partial<Record<Kind, string>> = { cache: 'caches', render: 'renders', source: 'media' };

/** Enough that a fifth is free again; whole tens of gigabytes. */
function goalFor({ volumeId, capacityBytes, usedBytes }: Volume): Decision['action'] {
  const gigabytes = Math.max(10, Math.ceil((usedBytes - 0.8 * capacityBytes) / 10e9) * 10);
  return { go: 'goal', volumeId, gigabytes, words: `Free ${gigabytes} GB` };
}

function ofVolume(volume: DecisionFacts['volumes'][number], { nowMs, strays }: DecisionFacts): Decision[] {
  const { volumeId, name } = volume;
  const found: Decision[] = [];
  if (volume.state === 'swapped') {
    found.push({
      key: `swapped ${volumeId}`,
      weight: 'loss',
      isUrgent: true,
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
    const cacheBytes = bytesOf(volume, 'cache');
    const caches = cacheBytes >= WORTH_TELLING;
    found.push({
      key: `full ${volumeId}`,
      weight: share >= FULL || (fills && fills.earliest <= 7) ? 'loss' : 'caution',
      what: fills
        ? `${name} is ${forecastWords(fills)}`
        : `${name} is ${percentFull(volume.usedBytes, volume.capacityBytes)} % full`,
      detail: `${size(Math.max(0, volume.capacityBytes - volume.usedBytes))} left${caches ? `, ${size(cacheBytes)} of caches there` : ', almost no caches there'}`,
      action: goalFor(volume),
      ...(share >= BRIMFUL || (fills && fills.days < 1) ? { isUrgent: true } : {}),
    });
  }
  found.push(...misplaced(volume, strays));
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
      action: { go: 'missing', projectId, words: project.missing === 1 ? 'Find it' : 'Find them' },
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

const homeTrouble = (home: DecisionFacts['homeTroubles'][number]): Decision => ({
  key: `home ${home.projectId} ${home.kind}`,
  weight: 'caution',
  what: `${home.project} has its ${home.kind} at home on ${home.volume}, which ${home.why}`,
  detail: 'Say where it goes before somebody writes it elsewhere.',
  action: { go: 'project', projectId: home.projectId, words: 'Open project' },
});

const nobodys = (row: DecisionFacts['ownerless'][number]): Decision => ({
  key: `nobody ${row.volumeId}`,
  weight: 'plain',
  what: `${size(row.bytes)} on ${row.volume} belong to no project`,
  detail: `${counted(row.files, 'file')} that no document names and no project has in a folder of its own`,
  action: { go: 'space', volumeId: row.volumeId, project: 0, words: 'Show files' },
});

const broken = (document: DecisionFacts['brokenDocuments'][number]): Decision => ({
  key: `broken ${document.name}`,
  weight: 'loss',
  what: `${document.name} cannot be read`,
  detail: `${document.trouble}. What an earlier reading told is kept.`,
  action: { go: 'project', projectId: document.projectId, words: 'Open project' },
});
