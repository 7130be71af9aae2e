// The sentence that opens each lens, worked out from the data. Called by the lenses' loaders; never put together in a
// component.
import type { LeftOut } from '../archive/selection.ts';
import { type Forecast, forecastWords } from '../forecast/forecast.ts';
import { ago, capital, count, counted, duration, inWords, listed, percentFull, size, span } from './amounts.ts';

export interface VolumeFill {
  name: string;
  usedBytes: number;
  capacityBytes: number;
  reachable: boolean;
  forecast?: Forecast;
}

/** A volume that fills later than this is no news. */
const WORTH_SAYING_DAYS = 42;

const share = (volume: VolumeFill) => (volume.capacityBytes > 0 ? volume.usedBytes / volume.capacityBytes : 0);
const percent = (part: number) => `${Math.round(part * 100)} %`;

/** Site: the fullest volume where it is tight, and what could go. */
export function siteSentence(facts: {
  volumes: readonly VolumeFill[];
  cacheBytes: number;
  read: boolean;
  /** What waits below the sentence. */
  decisions: number;
}): string {
  if (facts.volumes.length === 0) return 'No volume is registered yet.';
  if (!facts.read) return 'Nothing has been read yet. Read the volumes to see what they hold.';
  const fullest = [...facts.volumes].sort((a, b) => share(b) - share(a))[0]!;
  const parts: string[] = [];
  const soonest = facts.volumes
    .flatMap((volume) =>
      volume.forecast?.says === 'fills' && volume.forecast.days <= WORTH_SAYING_DAYS
        ? [{ name: volume.name, forecast: volume.forecast }]
        : [],
    )
    .sort((a, b) => a.forecast.days - b.forecast.days)[0];
  if (soonest) parts.push(`${soonest.name} is ${forecastWords(soonest.forecast)}.`);
  else if (share(fullest) >= 0.85)
    parts.push(`${fullest.name} is ${percentFull(fullest.usedBytes, fullest.capacityBytes)} % full.`);
  const away = facts.volumes.filter((volume) => !volume.reachable);
  if (away.length > 0) parts.push(`${listed(away.map((v) => v.name))} cannot be reached.`);
  if (facts.cacheBytes >= 1e9) parts.push(`${size(facts.cacheBytes)} across the site can go and be rebuilt later.`);
  if (parts.length > 0) return parts.join(' ');
  if (facts.decisions === 0) return 'Nothing needs you today.';
  return `${capital(inWords(facts.decisions))} ${facts.decisions === 1 ? 'decision waits' : 'decisions wait'} for you.`;
}

/** `on`: names of the volumes it is narrowed to. */
export function projectsSentence(
  projects: readonly { name: string; state: string; bytes: number; missing: number }[],
  on: readonly string[] = [],
): string {
  if (on.length > 0) {
    const n = projects.length;
    const bytes = projects.reduce((sum, p) => sum + p.bytes, 0);
    return n === 0
      ? `No project has files on ${listed(on)}.`
      : `${capital(inWords(n))} ${n === 1 ? 'project has' : 'projects have'} ${size(bytes)} on ${listed(on)}.`;
  }
  if (projects.length === 0)
    return 'No project is known yet. Projects are found by their documents when volumes are read.';
  const delivered = projects.filter((p) => p.state === 'delivered' && p.bytes > 0);
  const missing = projects.reduce((sum, p) => sum + p.missing, 0);
  const parts = [`${capital(inWords(projects.length))} ${projects.length === 1 ? 'project' : 'projects'}.`];
  if (delivered.length > 0) {
    const bytes = delivered.reduce((sum, p) => sum + p.bytes, 0);
    parts.push(
      `${listed(delivered.map((p) => p.name))} ${delivered.length === 1 ? 'is' : 'are'} delivered and still ${delivered.length === 1 ? 'holds' : 'hold'} ${size(bytes)}.`,
    );
  }
  if (missing > 0) parts.push(`${capital(counted(missing, 'piece'))} of media cannot be found.`);
  return parts.join(' ');
}

/** `where`: a name as it is, or words for several; `isMany`: it is several. */
export function spaceSentence(facts: {
  where: string;
  isMany?: boolean;
  totalBytes: number;
  yearOldBytes: number;
  files: number;
}): string {
  // A name is written as it is.
  const where = facts.where === 'the site' || facts.isMany ? capital(facts.where) : facts.where;
  const holds = facts.isMany ? 'hold' : 'holds';
  if (facts.files === 0) return `${where} ${holds} nothing that has been read.`;
  const part = facts.yearOldBytes / Math.max(1, facts.totalBytes);
  if (part >= 0.2) return `${percent(part)} of ${facts.where} was last changed over a year ago.`;
  return `${where} ${holds} ${size(facts.totalBytes)} in ${counted(facts.files, 'file')}.`;
}

export function reclaimSentence(facts: { chosenBytes: number; allBytes: number; chosenFiles: number }): string {
  if (facts.allBytes === 0) return 'No caches were found. There is nothing to reclaim here.';
  if (facts.chosenFiles === 0) return `${size(facts.allBytes)} of caches, none of it chosen.`;
  const of = facts.chosenBytes < facts.allBytes ? ` of ${size(facts.allBytes)} of caches` : '';
  return `${size(facts.chosenBytes)}${of} chosen. Nothing in it is irreplaceable.`;
}

export function archiveSentence(facts: { totalBytes: number; archiveBytes: number; carrier: string | null }): string {
  if (facts.archiveBytes === 0)
    return 'No timeline of this project uses any media that is found. There is nothing to archive.';
  const to = facts.carrier ? ` on ${facts.carrier}` : '';
  return `${size(facts.totalBytes)} becomes a ${size(facts.archiveBytes)} archive${to}.`;
}

export function handOverSentence(facts: { totalBytes: number; bytes: number; toWhom: string }): string {
  if (facts.bytes === 0) return 'Nothing that was chosen is found. There is nothing to hand over.';
  return `${facts.toWhom === '' ? 'Somebody' : facts.toWhom} gets ${size(facts.bytes)} of ${size(facts.totalBytes)}.`;
}

export function archiveLensSentence(projects: readonly { name: string; state: string; archived: boolean }[]): string {
  const waiting = projects.filter((p) => p.state === 'delivered' && !p.archived);
  if (waiting.length === 0) return 'No delivered project waits for an archive.';
  return `${listed(waiting.map((p) => p.name))} ${waiting.length === 1 ? 'is' : 'are'} delivered and not archived yet.`;
}

export function shelfSentence(
  facts: { archives: number; carriers: number; holding: number; damaged: number; oldestReadBackMs: number | null },
  nowMs: number,
): string {
  if (facts.carriers === 0) return 'No carrier is registered yet.';
  if (facts.archives === 0)
    return `Nothing is on the shelf yet. ${capital(inWords(facts.carriers))} ${facts.carriers === 1 ? 'carrier waits' : 'carriers wait'}.`;
  const carriers = `${inWords(facts.carriers)} ${facts.carriers === 1 ? 'carrier' : 'carriers'}`;
  const where = facts.holding < facts.carriers ? `${inWords(facts.holding)} of ${carriers}` : carriers;
  const parts = [`${capital(inWords(facts.archives))} ${facts.archives === 1 ? 'archive' : 'archives'} on ${where}.`];
  if (facts.damaged > 0)
    parts.push(`${capital(counted(facts.damaged, 'copy', 'copies'))} ${facts.damaged === 1 ? 'is' : 'are'} damaged.`);
  else if (facts.oldestReadBackMs !== null)
    parts.push(`Every copy was read back whole, the earliest ${ago(facts.oldestReadBackMs, nowMs)}.`);
  return parts.join(' ');
}

export function ledgerSentence(facts: {
  receipts: number;
  removedBytes: number;
  archivedBytes: number;
  broken: number;
}): string {
  if (facts.broken > 0)
    return `${capital(counted(facts.broken, 'receipt'))} ${facts.broken === 1 ? 'does' : 'do'} not match what was written. The ledger was changed from outside.`;
  if (facts.receipts === 0) return 'Nothing has been done yet. Everything that is done leaves a receipt here.';
  const parts: string[] = [];
  if (facts.removedBytes > 0) parts.push(`${size(facts.removedBytes)} removed`);
  if (facts.archivedBytes > 0) parts.push(`${size(facts.archivedBytes)} archived`);
  const done = parts.length > 0 ? `${capital(listed(parts))}, in` : 'In all';
  return `${done} ${counted(facts.receipts, 'receipt')}.`;
}

export const LEFT_OUT_WORDS: Record<LeftOut, string> = {
  unused: 'Unused media',
  lent: 'Used by others alone',
  cache: 'Caches',
  render: 'Renders',
  proxy: 'Proxies',
  backup: 'Backups',
  delivery: 'Deliveries',
  other: 'Other files',
};

/** What it means that a part of a project stays out of its archive, in a few words; `seconds` to make it again. */
export function outWords(part: LeftOut, seconds: number): string {
  const again = seconds >= 60 ? ` in about ${duration(seconds)}` : '';
  switch (part) {
    case 'delivery':
      return 'the work itself';
    case 'render':
    case 'proxy':
      return `made again${again}`;
    case 'cache':
      return `rebuilt${again}`;
    case 'unused':
    case 'other':
      return 'gone once removed';
    case 'lent':
      return 'stays where it is';
    case 'backup':
      return 'earlier documents';
  }
}

/** How far back a project can go. */
export function backSentence(facts: {
  project: string;
  count: number;
  sinceMs: number | null;
  lastMs: number | null;
  nowMs: number;
}): string {
  const { project, count: many, sinceMs, lastMs, nowMs } = facts;
  if (sinceMs === null || lastMs === null) return `No snapshot of ${project} was taken yet.`;
  if (many === 1) return `${project} can go back to one snapshot, taken ${ago(sinceMs, nowMs)}.`;
  return `${project} can go back to ${counted(many, 'snapshot')}, the first ${ago(sinceMs, nowMs)}, the last ${ago(lastMs, nowMs)}.`;
}

/** How long a project has been in its state: 'delivered 41 days ago', 'in work for 3 days'. */
export function stateSince(state: string, sinceMs: number, nowMs: number): string {
  if (state === 'delivered' || state === 'archived') return `${state} ${ago(sinceMs, nowMs)}`;
  return `${state} for ${span(nowMs - sinceMs)}`;
}

/** What gathering a project into its homes put into the plan. */
export function gatheredWords({
  moved,
  copied,
}: {
  moved: { files: number; bytes: number };
  copied: { files: number; bytes: number };
}): string {
  const parts = [
    moved.files > 0 ? `the move home of ${counted(moved.files, 'file')}, ${size(moved.bytes)}` : '',
    copied.files > 0 ? `the copying of ${counted(copied.files, 'file')} that it borrows, ${size(copied.bytes)}` : '',
  ].filter(Boolean);
  return `Added to the plan: ${parts.join(', and ')}. Documents get new versions when it is run.`;
}

export function kindsSentence(rules: number, templates: number): string {
  const homes =
    templates === 0
      ? 'No template says yet where new projects belong'
      : `${capital(inWords(templates))} ${templates === 1 ? 'template says' : 'templates say'} where new projects belong`;
  return `${capital(inWords(rules))} ${rules === 1 ? 'rule says' : 'rules say'} what a file is. ${homes}.`;
}

/** The sentence over missing media, or over one clip that gets other media. */
export function missingSentence({
  total,
  certain,
  replacing,
}: {
  total: number;
  certain: number;
  replacing: string | null;
}): string {
  if (replacing !== null)
    return replacing === '' ? 'There is no such clip any more.' : `What ${replacing} may be replaced with.`;
  if (total === 0) return 'Nothing is missing.';
  const many = `${counted(total, 'clip')} ${total === 1 ? 'is' : 'are'} missing ${total === 1 ? 'its' : 'their'} media`;
  if (certain === 0) return `${many}; none can be told with certainty.`;
  return `${many}; ${certain === total ? (total === 1 ? 'it is' : 'all are') : `${count(certain)} ${certain === 1 ? 'is' : 'are'}`} found with certainty.`;
}
