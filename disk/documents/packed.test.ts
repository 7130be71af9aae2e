import type { DocumentModel } from '#core/documents/model.ts';
import { packed, unpacked } from './packed.ts';

test('what is packed comes out as it was', () => {
  const use = (media: number, start: number, num: number, [enabled, sound]: [boolean, boolean]) => ({
    media,
    range: { start, duration: 7 },
    rate: { num, den: num === 25 ? 1 : 1001 },
    enabled,
    sound,
  });
  const timeline = { bin: null, name: 'cut', durationFrames: 9, rate: { num: 25, den: 1 } };
  const model: DocumentModel = {
    name: 'x',
    bins: [],
    clips: [],
    media: [],
    notes: [],
    timelines: [
      {
        ...timeline,
        uses: [
          { ...use(0, 5, 25, [true, false]), reference: 0 },
          { ...use(3, 2 ** 40, 30000, [false, true]), reference: 7 },
          use(1, -4, 25, [true, true]),
        ],
      },
      { ...timeline, uses: [] },
    ],
  };
  expect(unpacked(packed(model))).toEqual(model);
});
