// Uses of a document on their way between threads: hundreds of thousands of small objects take seconds to be copied,
// columns of numbers are handed over.
import type { DocumentModel, Timeline, Use } from '#core/documents/model.ts';
import type { Rate } from '#core/time/rates.ts';

const COLUMNS = 6;
/** A use that names no reference of its own. */
const NONE = -1;
const [ENABLED, SOUND] = [1, 2];

export interface PackedModel extends Omit<DocumentModel, 'timelines'> {
  timelines: (Omit<Timeline, 'uses'> & { uses: Float64Array; rates: Rate[] })[];
}

export function packed(model: DocumentModel): PackedModel {
  return {
    ...model,
    timelines: model.timelines.map(({ uses, ...timeline }) => {
      const rates: Rate[] = [];
      const columns = new Float64Array(uses.length * COLUMNS);
      let at = 0;
      let number = 0;
      for (const { media, range, rate, enabled, sound, reference } of uses) {
        // Of one timeline they are nearly always the same.
        if (rate.num !== rates[number]?.num || rate.den !== rates[number]?.den) {
          number = rates.findIndex((one) => one.num === rate.num && one.den === rate.den);
          if (number < 0) number = rates.push(rate) - 1;
        }
        columns[at++] = media;
        columns[at++] = range.start;
        columns[at++] = range.duration;
        columns[at++] = number;
        columns[at++] = (enabled ? ENABLED : 0) + (sound ? SOUND : 0);
        columns[at++] = reference ?? NONE;
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
        const at = i * COLUMNS;
        const flags = uses[at + 4]!;
        return {
          media: uses[at]!,
          range: { start: uses[at + 1]!, duration: uses[at + 2]! },
          rate: rates[uses[at + 3]!]!,
          enabled: (flags & ENABLED) !== 0,
          sound: (flags & SOUND) !== 0,
          ...(uses[at + 5] === NONE ? {} : { reference: uses[at + 5]! }),
        };
      }),
    })),
  };
}
