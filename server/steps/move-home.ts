// Moving strayed files home, and what was parked back. A place where nothing is parked any more is none.
import { moveHome as kind } from '#core/steps/move-home.ts';
import { forgetEmptyParkings } from '../projects/parking.ts';
import { movingStep } from './moving.ts';

export const moveHome = movingStep(kind, { settle: (tx, { projectId }) => forgetEmptyParkings(tx, projectId) });
