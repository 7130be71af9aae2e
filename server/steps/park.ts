// Parking a project's media on another volume. All of them: that is their home from now on. The unused alone: the home stays
// where it is, and the place is known as one where the project has parked something.
import { parkMedia as kind } from '#core/steps/park.ts';
import { keepParkedKinds, settleParking } from '../projects/parking.ts';
import { movingStep } from './moving.ts';

export const parkMedia = movingStep(kind, {
  before: keepParkedKinds,
  settle: async (tx, params, tally) => {
    if (tally.files > 0) await settleParking(tx, params);
  },
});
