// Uses of a document on their way between threads: hundreds of thousands of small objects take seconds to be copied,
// columns of numbers are handed over.
import type { DocumentModel, Timeline, Use } from '#core/documents/model.ts';
import type { Rate } from '#core/time/rates.ts';

const COLUMNS = 5;
const [ENABLED, SOUND] = [1, 2];

export interface PackedModel extends Omit<DocumentModel, 'timelines'> {
  timelines: (Omit<Timeline, 'uses'> & { uses: Float64Array; rates: Rate[] })[];
}

export function packed(model: DocumentModel): PackedModel {
  return {
    ...model,
    timelines: model.timelines.map(({ uses, ...timeline }) => {
      const rates: Rate[] = [];
      const numbers = new Map<string, number>();
      const columns = new Float64Array(uses.length * COLUMNS);
      for (const [i, use] of uses.entries()) {
        const key = `${use.rate.num}/${use.rate.den}`;
        let rate = numbers.get(key);
        if (rate === undefined) numbers.set(key, (rate = rates.push(use.rate) - 1));
        const flags = (use.enabled ? ENABLED : 0) + (use.sound ? SOUND : 0);
        columns.set([use.media, use.range.start, use.range.duration, rate, flags], i * COLUMNS);
      }
      return { ...timeline, uses: columns, rates };
    }),
  };
}

/** The buffers that are handed over. */
export const buffersOf = (model: PackedModel): ArrayBuffer[] =>
  model.timelines.map((timeline) => timeline.uses.buffer as ArrayBuffer);

export function unpacked(model: PackedModel): DocumentModel {
  return {
    ...model,
    timelines: model.timelines.map(({ uses, rates, ...timeline }) => ({
      ...timeline,
      uses: Array.from({ length: uses.length / COLUMNS }, (_, i): Use => {
        const [media, start, duration, rate, flags] = uses.subarray(i * COLUMNS, (i + 1) * COLUMNS);
        return {
          media: media!,
          range: { start: start!, duration: duration! },
          rate: rates[rate!]!,
          enabled: (flags! & ENABLED) !== 0,
          sound: (flags! & SOUND) !== 0,
        };
      }),
    })),
  };
}
