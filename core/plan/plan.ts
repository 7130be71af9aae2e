// What a plan is, what it does to each volume, and what stands against it. Pure; the services bring the facts, the tray
// and the review show them, the job holds items for the same reasons.
import type { Level, PlanId, VolumeId } from '../model.ts';
import { kindAndParams, stepKindOf } from '../steps/registry.ts';
import type { Finding, StepSummary, StepWhat } from './model.ts';

export type { Finding, StepSummary, StepWhat };

export type PlanState = 'draft' | 'running' | 'done' | 'emptied';
/** How far one item is. See server/runtime/run-items.ts. */
export const ITEM_STATES = ['waiting', 'started', 'taken', 'done', 'held'] as const;
export type ItemState = (typeof ITEM_STATES)[number];

/** Why one item was held, that is, left as it is while the rest went on. */
export const HELD_REASONS = [
  'changed',
  'gone',
  'open',
  'in use',
  'not a file',
  'outside',
  'no good copy',
  'unreachable',
  'not permitted',
  'name taken',
  'copy differs',
  'name unreadable',
  'copy damaged',
  'in doubt',
  'open unknown',
  'no space',
  'not archived',
  'unreadable',
] as const;
export type HeldReason = (typeof HELD_REASONS)[number];

export const HELD_WORDS: Record<HeldReason, string> = {
  changed: 'it changed after it was chosen',
  gone: 'it was already gone',
  open: 'a program has it open',
  'in use': 'a project uses it',
  'not a file': 'it is no longer a plain file',
  outside: 'its path leads out of the volume',
  'no good copy': 'no copy of it has been read back',
  unreachable: 'its volume cannot be reached',
  'not permitted': 'the system does not permit it',
  'name taken': 'something else has its name now',
  'copy differs': 'its copy did not read back the same',
  'name unreadable': 'its name is no valid text',
  'copy damaged': 'its archived copy did not read back as it was sealed',
  'in doubt': 'a document that may name it could not be read',
  'open unknown': 'it cannot be seen whether a program has it open',
  'no space': 'there was no room for it',
  'not archived': 'it is not in the archive',
  unreadable: 'it could not be read from its disk',
};

/** A file is what it was when it was chosen, or another for good: trying again says the same of one that changed. */
export const canBeTriedAgain = (reason: HeldReason): boolean => reason !== 'changed';

/** True for a step that takes files away. */
export const removes = (what: StepWhat): boolean => stepKindOf(what).does === 'frees';

export interface VolumeEffect {
  volumeId: VolumeId;
  name: string;
  capacityBytes: number;
  beforeBytes: number;
  afterBytes: number;
}

/** What each volume a plan touches holds before and after it. Never below zero, whatever the numbers say. */
export function effects(
  steps: readonly StepSummary[],
  volumes: readonly { volumeId: VolumeId; name: string; capacityBytes: number; usedBytes: number }[],
): VolumeEffect[] {
  const change = new Map<VolumeId, number>();
  for (const step of steps) {
    const { kind, params } = kindAndParams(step.what);
    for (const part of kind.effect(params, step).volumes)
      change.set(part.volumeId, (change.get(part.volumeId) ?? 0) + part.bytes);
  }
  return volumes
    .filter((volume) => change.has(volume.volumeId))
    .map((volume) => ({
      volumeId: volume.volumeId,
      name: volume.name,
      capacityBytes: volume.capacityBytes,
      beforeBytes: volume.usedBytes,
      afterBytes: Math.max(0, volume.usedBytes + (change.get(volume.volumeId) ?? 0)),
    }));
}

/** How replaceable what a step takes away is; null where it takes nothing away. */
export function levelOf(what: StepWhat): Level | null {
  const { kind, params } = kindAndParams(what);
  return kind.level(params);
}

/** Bytes that go, by level of replaceability. */
export function byLevel(steps: readonly StepSummary[]): Record<Level, number> {
  const sums: Record<Level, number> = { 0: 0, 1: 0, 2: 0, 3: 0 };
  for (const step of steps) {
    const level = levelOf(step.what);
    if (level !== null) sums[level] += step.bytes;
  }
  return sums;
}

export interface PlanTotals {
  steps: number;
  freedBytes: number;
  asideBytes: number;
  writtenBytes: number;
  movedBytes: number;
  files: number;
}

export function totals(steps: readonly StepSummary[]): PlanTotals {
  const sum = (wanted: (step: StepSummary) => boolean) => steps.filter(wanted).reduce((n, step) => n + step.bytes, 0);
  return {
    steps: steps.length,
    freedBytes: sum((step) => stepKindOf(step.what).does === 'frees'),
    writtenBytes: steps.reduce((n, step) => {
      const { kind, params } = kindAndParams(step.what);
      if (kind.does !== 'writes') return n;
      const { volumes, carriers } = kind.effect(params, step);
      return n + [...volumes, ...carriers].reduce((bytes, part) => bytes + part.bytes, 0);
    }, 0),
    asideBytes: sum((step) => stepKindOf(step.what).does === 'sets aside'),
    movedBytes: sum((step) => stepKindOf(step.what).does === 'moves'),
    files: steps.reduce((n, step) => n + step.files, 0),
  };
}

export type PlanTrouble =
  | { code: 'nothing staged' }
  | { code: 'already running'; byWhom: string; planId: PlanId }
  | { code: 'changed meanwhile' }
  | { code: 'size not typed'; bytes: number }
  | { code: 'stopped by findings'; findings: Finding[] };
