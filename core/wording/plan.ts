// Words for plans: titles of steps, findings, troubles, the opening sentence of the review.
import {
  byLevel,
  type Finding,
  HELD_WORDS,
  type PlanTrouble,
  type StepSummary,
  type StepWhat,
  totals,
} from '../plan/plan.ts';
import { ago, capital, count, counted, day, inWords, size } from './amounts.ts';

const DAY_MS = 86_400_000;

/** What a step does, as a row's first words. */
export function stepTitle(what: StepWhat, names: { project?: string; carrier?: string; volume?: string }): string {
  switch (what.kind) {
    case 'remove caches':
      return `Remove caches last changed before ${day(what.cutDay * DAY_MS)}`;
    case 'remove originals':
      return `Remove originals of ${names.project ?? 'the project'}`;
    case 'archive':
      return `Archive ${names.project ?? 'the project'} on ${names.carrier ?? 'its carrier'}`;
    case 'move home':
      return `Move ${what.fileKind} of ${what.project} home to ${names.volume ?? 'its volume'}`;
    case 'restore':
      return `Restore ${names.project ?? 'the project'} to ${names.volume ?? 'its volume'}`;
  }
}

/** What it takes to have it again. */
export function ifNeededAgain(what: StepWhat): string {
  switch (what.kind) {
    case 'remove caches':
      return 'rebuilt when a project opens';
    case 'remove originals':
      return `restored from ${what.archiveName}`;
    case 'archive':
      return 'the originals stay where they are';
    case 'move home':
      return 'the same files, in their home';
    case 'restore':
      return 'the archive stays as it is';
  }
}

export function planSentence(steps: readonly StepSummary[]): string {
  if (steps.length === 0) return 'Nothing is staged.';
  const sum = totals(steps);
  const parts: string[] = [];
  if (sum.freedBytes > 0) parts.push(`${size(sum.freedBytes)} will go`);
  if (sum.movedBytes > 0) parts.push(`${size(sum.movedBytes)} will move home`);
  if (sum.writtenBytes > 0) parts.push(`${size(sum.writtenBytes)} will be written`);
  const levels = byLevel(steps);
  const loss =
    levels[3] > 0
      ? ` ${size(levels[3])} of it has no other copy.`
      : sum.freedBytes > 0
        ? ' Nothing in it is irreplaceable.'
        : '';
  return `${capital(parts.join(', ').replace(/, ([^,]*)$/, ' and $1') || 'nothing changes')}, in ${inWords(steps.length)} ${steps.length === 1 ? 'step' : 'steps'}.${loss}`;
}

export function findingWords(finding: Finding, nowMs: number): { what: string; detail: string } {
  switch (finding.code) {
    case 'volume unreachable':
      return {
        what: `${finding.volume} cannot be reached`,
        detail:
          finding.lastSeenMs === null
            ? 'It was never seen. Connect it, or take the step out.'
            : `It was last seen ${ago(finding.lastSeenMs, nowMs)}. Connect it, or take the step out.`,
      };
    case 'carrier unreachable':
      return {
        what: `${finding.carrier} is not in reach`,
        detail: 'Connect the carrier, or take the step out and choose another.',
      };
    case 'carrier too small':
      return {
        what: `${finding.carrier} is too small`,
        detail: `${size(finding.neededBytes)} is needed and ${size(finding.freeBytes)} is free. Choose another carrier.`,
      };
    case 'volume too full':
      return {
        what: `${finding.volume} is too full`,
        detail: `${size(finding.neededBytes)} is needed and ${size(finding.freeBytes)} is free. Free some space first, or choose another volume.`,
      };
    case 'media missing':
      return {
        what: `${counted(finding.missing, 'piece')} of media of ${finding.project} ${finding.missing === 1 ? 'is' : 'are'} missing`,
        detail: `The archive will hold the ${count(finding.total - finding.missing)} that are found, and say which are not.`,
      };
    case 'items differ':
      return {
        what: `${counted(finding.files, 'file')} left out: ${HELD_WORDS[finding.reason]}`,
        detail: `${size(finding.bytes)}, for example ${finding.example}`,
      };
    case 'same name':
      return {
        what: `${finding.name} is on ${finding.where} already`,
        detail: 'Nothing is ever written over. Choose another name.',
      };
    case 'name made different':
      return {
        what: `${counted(finding.files, 'name')} made different`,
        detail: `Two files would have had one name in the archive, for example ${finding.example}`,
      };
    case 'volume read-only':
      return {
        what: `${finding.volume} can only be read`,
        detail: 'Nothing can be written or removed there. Make it writable, or take the step out.',
      };
    case 'documents relinked':
      return {
        what: `${counted(finding.documents, 'document')} will get a new version`,
        detail: `It names the new places and lies beside the old one, for example ${finding.example}. The old one stays as it is.`,
      };
    case 'project in work':
      return {
        what: `${finding.project} is ${finding.state}`,
        detail: 'Its caches are rebuilt when it is opened again, which takes time.',
      };
  }
}

export function planTroubleWords(trouble: PlanTrouble): string {
  switch (trouble.code) {
    case 'nothing staged':
      return 'Nothing is staged, so nothing was run. Stage something in a lens first.';
    case 'already running':
      return `This plan was already run by ${trouble.byWhom}. Your click changed nothing; its work is in the tray.`;
    case 'changed meanwhile':
      return 'The plan was changed while you looked at it, so it was not run. Look at it again and run it then.';
    case 'stopped by findings':
      return 'Something stands against this plan, so nothing was run. Settle what is listed, or take those steps out.';
  }
}
