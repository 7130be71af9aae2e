// What a plan is, what it does to each volume, and what stands against it. Pure; the services bring the facts, the tray
// and the review show them, the job holds items for the same reasons.
import type { ArchiveId, CarrierId, JobId, Kind, Level, PlanId, ProjectId, VolumeId } from '../model.ts';

export type PlanState = 'draft' | 'running' | 'done' | 'emptied';
export type ItemState = 'waiting' | 'done' | 'held';

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
};

/** What a step does, with what it needs to know. */
export type StepWhat =
  | { kind: 'remove caches'; level: 0; cutDay: number }
  | { kind: 'remove originals'; level: 2; archiveId: ArchiveId; archiveName: string }
  | { kind: 'archive'; projectId: ProjectId; carrierId: CarrierId; folder: string }
  | MoveStep
  | { kind: 'restore'; archiveId: ArchiveId; copyId: number; carrierId: CarrierId; volumeId: VolumeId; folder: string };
/** Files of one kind go to the home they have strayed from. */
export type MoveStep = {
  kind: 'move home';
  projectId: ProjectId;
  project: string;
  fileKind: Kind;
  volumeId: VolumeId;
  folder: string;
};
export type StepKind = StepWhat['kind'];

export interface StepSummary {
  stepId: number;
  what: StepWhat;
  title: string;
  files: number;
  bytes: number;
  /** Bytes by the volume they leave or come to. Archives are counted in `carriers`. */
  onVolumes: { volumeId: VolumeId; files: number; bytes: number }[];
  jobId: JobId | null;
}

/** True for a step that takes files away. */
export const removes = (what: StepWhat): boolean => what.kind === 'remove caches' || what.kind === 'remove originals';

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
    const add = (volumeId: VolumeId, bytes: number) => change.set(volumeId, (change.get(volumeId) ?? 0) + bytes);
    const { what } = step;
    if (what.kind === 'archive') continue;
    for (const part of step.onVolumes) {
      add(part.volumeId, what.kind === 'restore' ? part.bytes : -part.bytes);
      if (what.kind === 'move home') add(what.volumeId, part.bytes);
    }
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

/** Bytes that go, by level of replaceability. */
export function byLevel(steps: readonly StepSummary[]): Record<Level, number> {
  const sums: Record<Level, number> = { 0: 0, 1: 0, 2: 0, 3: 0 };
  for (const step of steps) if ('level' in step.what) sums[step.what.level] += step.bytes;
  return sums;
}

export interface PlanTotals {
  steps: number;
  freedBytes: number;
  writtenBytes: number;
  movedBytes: number;
  files: number;
}

export function totals(steps: readonly StepSummary[]): PlanTotals {
  const sum = (wanted: (step: StepSummary) => boolean) => steps.filter(wanted).reduce((n, step) => n + step.bytes, 0);
  return {
    steps: steps.length,
    freedBytes: sum((step) => removes(step.what)),
    writtenBytes: sum((step) => step.what.kind === 'archive' || step.what.kind === 'restore'),
    movedBytes: sum((step) => step.what.kind === 'move home'),
    files: steps.reduce((n, step) => n + step.files, 0),
  };
}

/** Something that stands against a plan. A 'stop' keeps the plan from being run; a 'hold' leaves items out. */
export type Finding =
  | { code: 'volume unreachable'; weight: 'stop'; stepId: number; volume: string; lastSeenMs: number | null }
  | {
      code: 'carrier too small';
      weight: 'stop';
      stepId: number;
      carrier: string;
      neededBytes: number;
      freeBytes: number;
    }
  | { code: 'carrier unreachable'; weight: 'stop'; stepId: number; carrier: string }
  | { code: 'volume too full'; weight: 'stop'; stepId: number; volume: string; neededBytes: number; freeBytes: number }
  | { code: 'media missing'; weight: 'note'; stepId: number; project: string; missing: number; total: number }
  | {
      code: 'items differ';
      weight: 'hold';
      stepId: number;
      reason: HeldReason;
      files: number;
      bytes: number;
      example: string;
    }
  | { code: 'same name'; weight: 'stop'; stepId: number; name: string; where: string }
  | { code: 'name made different'; weight: 'note'; stepId: number; files: number; example: string }
  | { code: 'volume read-only'; weight: 'stop'; stepId: number; volume: string }
  | { code: 'documents relinked'; weight: 'note'; stepId: number; documents: number; example: string }
  | { code: 'project in work'; weight: 'note'; stepId: number; project: string; state: string };

export type PlanTrouble =
  | { code: 'nothing staged' }
  | { code: 'already running'; byWhom: string; planId: PlanId }
  | { code: 'changed meanwhile' }
  | { code: 'stopped by findings'; findings: Finding[] };
