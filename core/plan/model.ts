// What a step of a plan is as data, whatever its kind, and what may stand against one. Types that the kinds of steps and the
// plan share.
import type { JobId, VolumeId } from '../model.ts';

/** What a row of a plan has: the name of its kind, and the parameters as they were written down. */
export interface StepWhat {
  kind: string;
  [parameter: string]: unknown;
}

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

/** Something that stands against a plan. A 'stop' keeps the plan from being run; a 'hold' leaves items out. */
export interface Finding {
  /** Names the words for it: those that any step may have are in core/wording/findings.ts, others in the kind's own file. */
  code: string;
  weight: 'stop' | 'hold' | 'note';
  stepId: number;
  /** Kind of the step, for its own words. */
  step: string;
  facts: Readonly<Record<string, string | number | null>>;
}
