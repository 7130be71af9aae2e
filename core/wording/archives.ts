// Words of an archive's own page: what it is and how sure, how it was shaped, and what it lets go of.
import type { Handles } from '../archive/lengths.ts';
import { KEPT_NAMES } from '../archive/names.ts';
import { type ArchiveScope, isNarrow } from '../archive/selection.ts';
import { ago, capital, counted, day, inWords, listed, size } from './amounts.ts';
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

/** How an archive was asked for, in a few lines. */
export function shapeWords(scope: ArchiveScope): string[] {
  const { parts, versions, handles, timelines, bins, files, layout, names, pack, rest } = scope;
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
  if (parts.length > 0) lines.push(`With ${listed(parts.map((part) => LEFT_OUT_WORDS[part].toLowerCase()))}`);
  lines.push(versions === 'all' ? 'All versions of its documents' : 'The newest version of each document');
  lines.push({ bins: 'Media by bins', disk: 'Media as it lay on disk', kind: 'Media by kind' }[layout]);
  if (names !== KEPT_NAMES) lines.push(`Names ${names}`);
  if (pack !== 'folder') lines.push(`Written as one ${pack}`);
  if (rest === 'leaves') lines.push('What was not chosen left the documents');
  return lines;
}
