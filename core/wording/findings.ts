// Words of the findings that a step of any kind may have. What only one kind can meet is worded in that kind's file.
import { fetchWords } from '../archive/fetching.ts';
import { HELD_WORDS, type Finding, type HeldReason } from '../plan/plan.ts';
import type { FindingWords } from '../steps/kind.ts';
import { stepKindOf } from '../steps/registry.ts';
import { ago, counted, duration, size } from './amounts.ts';
import { awaitedWords } from './archives.ts';

const text = (finding: Finding, key: string) => String(finding.facts[key] ?? '');
const number = (finding: Finding, key: string) => Number(finding.facts[key] ?? 0);

const COMMON: Readonly<Record<string, (finding: Finding, nowMs: number) => FindingWords>> = {
  'volume unreachable': (f, nowMs) => ({
    what: `${text(f, 'volume')} cannot be reached`,
    detail:
      f.facts.lastSeenMs === null
        ? 'It was never seen. Connect it, or take the step out.'
        : `It was last seen ${ago(number(f, 'lastSeenMs'), nowMs)}. Connect it, or take the step out.`,
  }),
  'volume read-only': (f) => ({
    what: `${text(f, 'volume')} can only be read`,
    detail: 'Nothing can be written or removed there. Make it writable, or take the step out.',
  }),
  'volume too full': (f) => ({
    what: `${text(f, 'volume')} is too full`,
    detail: `${size(number(f, 'neededBytes'))} is needed and ${size(number(f, 'freeBytes'))} is free. Free some space first, or choose another volume.`,
  }),
  'carrier unreachable': (f) => ({
    what: `${text(f, 'carrier')} is not in reach`,
    detail: 'Connect the carrier, or take the step out and choose another.',
  }),
  'order of a tape': (f) => ({
    what: `Read from ${text(f, 'carrier')} in the order in which it lies there`,
    detail: `About ${duration(number(f, 'seconds'))} of winding and reading; by name it would be ${duration(number(f, 'secondsAsAsked'))}.`,
  }),
  'brought up first': (f) => ({
    what: `It has to be brought up first${fetchWords({ thawSeconds: number(f, 'thawSeconds'), cost: number(f, 'cost') })}`,
    detail: 'It is asked for when the plan runs, and the work goes on by itself once it is there.',
  }),
  'lies elsewhere': (f) => ({
    what: awaitedWords({ files: number(f, 'files'), folders: text(f, 'folders') }),
    detail: 'What is here is brought back without them. Take that in first, and all of it comes.',
  }),
  'carrier asked for': (f) => ({
    what: `${text(f, 'carrier')} is not in reach: the work waits for it`,
    detail: `It is ${text(f, 'where')}. Once it is connected, to whichever worker, the work begins by itself.`,
  }),
  'copy not good': (f) => ({
    what: `No good copy of ${text(f, 'archive')} is in reach`,
    detail: `${text(f, 'why')} Nothing of it is removed before a copy reads back whole.`,
  }),
  'same name': (f) => ({
    what: `${text(f, 'name')} is on ${text(f, 'where')} already`,
    detail: 'Nothing is ever written over. Choose another name.',
  }),
  'items differ': (f) => ({
    what: `${counted(number(f, 'files'), 'file')} left out: ${HELD_WORDS[text(f, 'reason') as HeldReason]}`,
    detail: `${size(number(f, 'bytes'))}, for example ${text(f, 'example')}`,
  }),
  'project in work': (f) => ({
    what: `${text(f, 'project')} is ${text(f, 'state')}`,
    detail:
      f.step === 'remove caches'
        ? 'Its caches are rebuilt when it is opened again, which takes time.'
        : 'Somebody may be about to use what goes. Ask them first, or leave it out.',
  }),
  'documents unread': (f) => ({
    what: `${counted(number(f, 'documents'), 'document')} of ${text(f, 'project')} could not be read`,
    detail: `For example ${text(f, 'example')}. It may name files of this step, so files of ${text(f, 'project')} are left where they are until it can be read.`,
  }),
  'other stations': (f) => ({
    what: `Open files on ${text(f, 'stations')} cannot be seen`,
    detail: `Also mounted there: ${text(f, 'volume')}. No worker runs there, so close the programs that use it before you run the plan.`,
  }),
  'named by others': (f) => ({
    what: `${counted(number(f, 'files'), 'file')} named by documents of other projects`,
    detail: `${size(number(f, 'bytes'))}, for example ${text(f, 'example')}. No timeline of theirs uses it now.`,
  }),
  'open now': (f) => ({
    what: `${counted(number(f, 'files'), 'file')} open now in ${text(f, 'programs') || 'a program'} on ${text(f, 'machines')}`,
    detail: `For example ${text(f, 'example')}. What is still open when the plan runs stays where it is. Close the program, or leave these out.`,
  }),
  'open while read': (f) => ({
    what: `${counted(number(f, 'files'), 'file')} open now in ${text(f, 'programs') || 'a program'} on ${text(f, 'machines')}`,
    detail: `For example ${text(f, 'example')}. What changes while it is read is not taken. Let the program end first.`,
  }),
  'one archived copy': (f) => ({
    what: `${counted(number(f, 'files'), 'file')} of which one archived copy is known`,
    detail: `${size(number(f, 'bytes'))}, for example ${text(f, 'example')}. Where that carrier is lost, so are they.`,
  }),
  'step not known': (f) => ({
    what: `A step of the kind ${text(f, 'kind')} is not known to this version`,
    detail: 'Take it out of the plan, or run the version that added it.',
  }),
};

/** A finding in words: what it is, and what to do about it. */
export function findingWords(finding: Finding, nowMs: number): FindingWords {
  const common = COMMON[finding.code];
  if (common) return common(finding, nowMs);
  const own = stepKindOf({ kind: finding.step }).findingWords?.[finding.code];
  if (own) return own(finding);
  return { what: finding.code, detail: Object.values(finding.facts).join(', ') };
}
