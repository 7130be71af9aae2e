// Words for plans: titles of steps, troubles, the opening sentence of the review.
import { byLevel, type PlanTrouble, type StepSummary, totals } from '../plan/plan.ts';
import type { StepNames } from '../steps/kind.ts';
import { kindAndParams, type StepWhat } from '../steps/registry.ts';
import { capital, inWords, size } from './amounts.ts';

/** What a step does, as a row's first words. */
export function stepTitle(what: StepWhat, names: StepNames): string {
  const { kind, params } = kindAndParams(what);
  return kind.title(params, names);
}

/** What it takes to have it again. */
export function ifNeededAgain(what: StepWhat): string {
  const { kind, params } = kindAndParams(what);
  return kind.undoing(params);
}

export function planSentence(steps: readonly StepSummary[]): string {
  if (steps.length === 0) return 'The plan is empty.';
  const sum = totals(steps);
  const parts: string[] = [];
  if (sum.freedBytes > 0) parts.push(`${size(sum.freedBytes)} will go`);
  if (sum.asideBytes > 0) parts.push(`${size(sum.asideBytes)} will be set aside`);
  if (sum.movedBytes > 0) parts.push(`${size(sum.movedBytes)} will move home`);
  if (sum.writtenBytes > 0) parts.push(`${size(sum.writtenBytes)} will be written`);
  const levels = byLevel(steps);
  const loss =
    levels[3] > 0
      ? ` ${size(levels[3])} of it has no other copy.`
      : sum.freedBytes + sum.asideBytes > 0
        ? ' Nothing in it is irreplaceable.'
        : '';
  return `${capital(parts.join(', ').replace(/, ([^,]*)$/, ' and $1') || 'nothing changes')}, in ${inWords(steps.length)} ${steps.length === 1 ? 'step' : 'steps'}.${loss}`;
}

export function planTroubleWords(trouble: PlanTrouble): string {
  switch (trouble.code) {
    case 'nothing staged':
      return 'The plan is empty, so nothing was run. Add something to it in a lens first.';
    case 'already running':
      return `This plan was already run by ${trouble.byWhom}. Your click changed nothing; its work is in the tray.`;
    case 'changed meanwhile':
      return 'The plan was changed while you looked at it, so it was not run. Look at it again and run it then.';
    case 'size not typed':
      return `${size(trouble.bytes)} of this plan has no other copy. Type that size to run it. Nothing was run.`;
    case 'stopped by findings':
      return 'There is a problem with this plan, so nothing was run. Settle what is listed, or take those steps out.';
  }
}
