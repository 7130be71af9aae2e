// What a kind of step is to the core: its parameters, its words, what it does to volumes and carriers. One file a kind
// in this folder, one line in the registry; plan, review, tray and ledger go over the registry and know no kind by name.
import type { z } from 'zod';
import type { CarrierId, Level, VolumeId } from '../model.ts';
import type { Finding, StepSummary } from '../plan/model.ts';

/** Names of what a step speaks of, as far as whoever adds it knows them. */
export interface StepNames {
  project?: string;
  carriers?: readonly string[];
  volume?: string;
}

/** Bytes that come to a place, or leave it where they are negative. */
export interface Effect {
  volumes: readonly { volumeId: VolumeId; bytes: number }[];
  carriers: readonly { carrierId: CarrierId; bytes: number }[];
}

export interface FindingWords {
  what: string;
  detail: string;
}

export interface StepKind<Params extends object = object> {
  readonly kind: string;
  /** Everything it must know, and nothing else. Parsed when a step is added and whenever one is read back. */
  readonly params: z.ZodType<Params>;
  /** How replaceable what it takes away is; null where it takes nothing away. */
  level(params: Params): Level | null;
  /** What its bytes count as in the sums of a plan. */
  readonly does: 'frees' | 'sets aside' | 'moves' | 'writes';
  /** What the ledger calls it once it is done. */
  readonly action: string;
  /** What a job says while it is at it, for example 'removing'. */
  readonly phase: string;
  /** A row's first words. */
  title(params: Params, names: StepNames): string;
  /** What it takes to have things again as they were. */
  undoing(params: Params): string;
  effect(params: Params, step: Pick<StepSummary, 'bytes' | 'onVolumes'>): Effect;
  /** Words of findings that only this kind has, by their code. */
  readonly findingWords?: Readonly<Record<string, (finding: Finding) => FindingWords>>;
}

/** Only says that the parts of a kind fit together. */
export const stepKind = <Params extends object>(kind: StepKind<Params>): StepKind<Params> => kind;

/** Bytes leave the volumes that the items lie on. */
export const leaving = (step: Pick<StepSummary, 'onVolumes'>): Effect['volumes'] =>
  step.onVolumes.map((part) => ({ volumeId: part.volumeId, bytes: -part.bytes }));
