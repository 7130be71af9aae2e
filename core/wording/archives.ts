// Words of an archive's own page: what it is and how sure, how it was shaped, and what it lets go of.
import type { Handles } from '../archive/lengths.ts';
import { KEPT_NAMES } from '../archive/names.ts';
import { type ArchiveScope, isNarrow, type Layout, type LeftOut } from '../archive/selection.ts';
import { ago, capital, counted, day, duration, inWords, listed, size } from './amounts.ts';
import { LEFT_OUT_WORDS } from './lenses.ts';

export interface ArchiveFacts {
  name: string;
  sealedMs: number | null;
  files: number;
  bytes: number;
  /** Of each good copy: on how many carriers it lies, and when it was read back. */
  good: readonly { carriers: number; readBackMs: number | null }[];
  damaged: number;
}

/** "Velvet Crab: 240 MB in 5 files, sealed on 27 Nov 2026. Two copies, one over two carriers, read back whole 3 minutes ago." */
export function archivePageSentence(
  { name, sealedMs, files, bytes, good, damaged }: ArchiveFacts,
  nowMs: number,
): string {
  const what = `${name}: ${size(bytes)} in ${counted(files, 'file')}`;
  if (sealedMs === null) return `${what}, being written.`;
  const bad =
    damaged > 0 ? ` ${capital(counted(damaged, 'copy', 'copies'))} ${damaged === 1 ? 'is' : 'are'} damaged.` : '';
  const sealed = `${what}, sealed on ${day(sealedMs)}.`;
  if (good.length === 0) return `${sealed} No copy of it is good.${bad}`;
  const over = good.filter((copy) => copy.carriers > 1);
  const times = good.map((copy) => copy.readBackMs);
  const oldest = times.every((ms) => ms !== null) ? Math.min(...times.map(Number)) : null;
  const copies = `${capital(inWords(good.length))} good ${good.length === 1 ? 'copy' : 'copies'}`;
  const spread =
    over.length === 0
      ? ''
      : good.length === 1
        ? ` over ${inWords(over[0]!.carriers)} carriers`
        : `, ${inWords(over.length)} of them over several carriers`;
  const read = oldest === null ? '' : `, read back whole ${ago(oldest, nowMs)}`;
  return `${sealed} ${copies}${spread}${read}.${bad}`;
}

const lengthWords = ({ value, unit }: Handles): string =>
  value === 0 ? 'nothing' : `${value} ${value === 1 ? unit.slice(0, -1) : unit}`;

const LAYOUT_LINES: Record<Layout, string> = {
  bins: 'Media by bins',
  disk: 'Media as it lay on disk',
  kind: 'Media by kind',
  bundle: 'Media in one bundle with the newest document',
};

/** How an archive was asked for, in a few lines. */
export function shapeWords(scope: ArchiveScope): string[] {
  const { parts, versions, handles, timelines, bins, files, layout, names, pack, rest, encode } = scope;
  const lines: string[] = [];
  if (!isNarrow(scope)) lines.push('All that its timelines use');
  if (timelines.length > 0) lines.push(`Timelines ${listed(timelines)}`);
  if (bins.length > 0) lines.push(`Bins ${listed(bins)}`);
  if (files.length > 0) lines.push(`${counted(files.length, 'file')} chosen one by one`);
  lines.push(handles === null ? 'Media whole' : `Used ranges with handles of ${lengthWords(handles)}`);
  if (handles?.own?.length)
    lines.push(
      `${counted(handles.own.length, 'file')} with a length of ${handles.own.length === 1 ? 'its' : 'their'} own`,
    );
  if (handles?.withoutData) lines.push('Without tracks of data in what is cut');
  for (const [part, as] of Object.entries(encode))
    lines.push(
      `${part === 'used' ? 'Media' : LEFT_OUT_WORDS[part as LeftOut]} ${as === 'lossless' ? 'encoded anew without loss' : 'as small viewing copies'}`,
    );
  if (parts.length > 0) lines.push(`With ${listed(parts.map((part) => LEFT_OUT_WORDS[part].toLowerCase()))}`);
  lines.push(versions === 'all' ? 'All versions of its documents' : 'The newest version of each document');
  lines.push(LAYOUT_LINES[layout]);
  if (names !== KEPT_NAMES) lines.push(`Names ${names}`);
  if (pack !== 'folder') lines.push(`Written as one ${pack}`);
  if (rest === 'leaves') lines.push('What was not chosen left the documents');
  return lines;
}

export interface CarrierFacts {
  name: string;
  place: string;
  /** Where its kind last saw it, a slot or a drive. */
  whereNow?: string | null;
  state: string;
  capacityBytes: number;
  usedBytes: number;
  lent: { to: string; dueMs: number | null } | null;
  holds: readonly { archiveId: number; state: string; readBackMs: number | null }[];
}

/** "KD-0003 holds 3 archives, 1.20 GB of 4.00 GB. It is lent to Ida Holm, due back 3 Dec 2026." */
/** Of one that is no longer counted on. */
export const letGoSentence = ({ name, files, bytes }: Pick<ArchiveFacts, 'name' | 'files' | 'bytes'>): string =>
  `${name} was let go. It held ${size(bytes)} in ${counted(files, 'file')}.`;

/** How an archive came to be that was not written here, a line each. */
export function takenInWords({
  carrier,
  folder,
  checked,
  files,
  same,
}: {
  carrier: string;
  folder: string;
  checked: number;
  files: number;
  same?: { files: number; bytes: number };
}): string[] {
  return [
    `Taken in from ${carrier}, where it lies as ${folder}`,
    checked === 0
      ? 'No file had a checksum with it'
      : checked >= files
        ? 'All files match the checksums that came with them'
        : `${counted(checked, 'file')} ${checked === 1 ? 'matches the checksum' : 'match the checksums'} that came with ${checked === 1 ? 'it' : 'them'}; the others had none`,
    ...(same
      ? [
          `${counted(same.files, 'file')} of it, ${size(same.bytes)}, ${same.files === 1 ? 'is' : 'are'} in other archives as well`,
        ]
      : []),
  ];
}

export function carrierSentence(facts: CarrierFacts, nowMs: number): string {
  const { name, place, whereNow, holds, lent, state, usedBytes, capacityBytes } = facts;
  const archives = new Set(holds.map((held) => held.archiveId)).size;
  const damaged = holds.filter((held) => held.state === 'damaged').length;
  const what =
    archives === 0
      ? `${name} is empty.`
      : `${name} holds ${counted(archives, 'archive')}, ${size(usedBytes)} of ${size(capacityBytes)}.`;
  const bad =
    damaged === 0
      ? ''
      : ` ${capital(inWords(damaged))} ${damaged === 1 ? 'copy' : 'copies'} on it ${damaged === 1 ? 'is' : 'are'} damaged.`;
  const due = lent?.dueMs
    ? lent.dueMs < nowMs
      ? `, was due back ${ago(lent.dueMs, nowMs)}`
      : `, due back on ${day(lent.dueMs)}`
    : '';
  const where = lent
    ? ` It is lent to ${lent.to}${due}.`
    : state === 'reachable'
      ? ` It is ${whereNow ? `in ${whereNow}` : 'connected'}; its place is ${place}.`
      : ` It is in ${place}.`;
  return `${what}${bad}${where}`;
}

/** What belongs to an archive that was taken in, and lies in others that are not in the catalogue yet. */
export interface Awaited {
  files: number;
  /** Of those others, with commas between. */
  folders: string;
}

export const awaitedWords = ({ files, folders }: Awaited): string =>
  `${counted(files, 'file')} of it ${files === 1 ? 'lies' : 'lie'} in ${folders}, which is not in the catalogue yet`;

/** How long until a copy can be read. */
export const hereIn = ({ isThere, waitSeconds }: { isThere: boolean; waitSeconds: number }): string =>
  !isThere ? 'not in reach' : waitSeconds > 0 ? `here in ${duration(waitSeconds)}` : 'in reach';
