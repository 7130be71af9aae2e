// What a kind of step is to the server: what stands against it, which stores it needs, what it does. One file a kind in
// this folder, one line in the registry. Adding one to the plan is a function of that file, which its lens calls.
import type { Finding, StepSummary } from '#core/plan/plan.ts';
import type { StepKind } from '#core/steps/kind.ts';
import { paramsOf } from '#core/steps/registry.ts';
import type { Database, Db, Transaction } from '../db/connect.ts';
import type { JobContext } from '../runtime/context.ts';
import type { StoreNeed } from '../runtime/queue.ts';
import type { Step } from '../runtime/run-items.ts';

export interface ServerStep<Params extends object = object> {
  readonly kind: StepKind<Params>;
  /** What stands against it, from what the catalogue knows now. The worker looks at the disks when it runs. */
  findings(db: Db, step: StepSummary, params: Params): Promise<Finding[]>;
  /** The volumes and carriers it needs, and how. */
  stores(tx: Db, step: Step, params: Params): Promise<StoreNeed[]>;
  /** What is written down before the work begins; becomes the job's parameters. */
  begin?(tx: Transaction, step: Step, params: Params): Promise<Record<string, unknown>>;
  /** Does it, ends the job and writes its receipt. */
  run(context: JobContext, step: Step, params: Params): Promise<void>;
  /** Ends a job that ended its workers too often: puts back what is begun, writes the receipt, runs nothing further. */
  giveUp(context: JobContext, step: Step, params: Params): Promise<void>;
}

/** Only says that the parts of a kind fit together. */
export const serverStep = <Params extends object>(step: ServerStep<Params>): ServerStep<Params> => step;

/** A step's parameters, parsed by its own kind. */
export const paramsIn = <Params extends object>(step: ServerStep<Params>, row: Pick<Step, 'what'>): Params =>
  paramsOf(step.kind, row.what);

export type { Database, Db, Step };
