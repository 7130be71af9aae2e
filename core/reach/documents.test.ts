// Generated documents against a reference that asks for every output frame by itself, straight from the document, and
// shares no code with core/reach: whatever is shown at an instant is used. What the standard leaves open (backwards, time
// changed in unknown ways) is counted apart: there more may be told, nowhere less.
import fc from 'fast-check';
import { readOtio } from '../documents/formats/otio.ts';

const RUNS = 2000;

type Json = Record<string, unknown>;
/** Times are whole numbers of this many parts of a second, which every rate here divides. */
const TICKS = 1_200_000;
const RATES = [24, 25, 30, 50];

const time = (value: number, rate: number): Json => ({ OTIO_SCHEMA: 'RationalTime.1', value, rate });
const range = (start: number, duration: number, rate: number): Json => ({
  OTIO_SCHEMA: 'TimeRange.1',
  start_time: time(start, rate),
  duration: time(duration, rate),
});

// ---------------------------------------------------------------------------------------------- documents

const rate = fc.constantFrom(...RATES);
const effects = fc.array(
  fc.record({
    OTIO_SCHEMA: fc.constantFrom('LinearTimeWarp.1', 'LinearTimeWarp.1', 'FreezeFrame.1', 'Effect.1'),
    time_scalar: fc.constantFrom(2, 0.5, 3, 1, -1, -2),
    enabled: fc.constantFrom(true, true, true, false),
  }),
  { maxLength: 1 },
);
const reference = (name: string) =>
  fc
    .record({ start: fc.integer({ min: 0, max: 40 }), r: rate, long: fc.integer({ min: 150, max: 400 }) })
    .map(({ start, r, long }) => ({
      OTIO_SCHEMA: 'ExternalReference.1',
      target_url: name,
      available_range: range(start, long, r),
    }));
const clip = fc
  .record({
    media: fc.constantFrom('a', 'b', 'c').chain(reference),
    proxy: fc.option(reference('proxy')),
    cut: fc.option(fc.tuple(fc.integer({ min: 40, max: 90 }), fc.integer({ min: 1, max: 25 }), rate)),
    effects,
    enabled: fc.constantFrom(true, true, false),
  })
  .map(({ media, proxy, cut, effects: own, enabled }) => ({
    OTIO_SCHEMA: 'Clip.2',
    source_range: cut && range(...cut),
    media_references: { DEFAULT_MEDIA: media, ...(proxy ? { proxy } : {}) },
    active_media_reference_key: 'DEFAULT_MEDIA',
    effects: own,
    enabled,
  }));
const gap = fc
  .tuple(fc.integer({ min: 1, max: 12 }), rate)
  .map(([n, r]) => ({ OTIO_SCHEMA: 'Gap.1', source_range: range(0, n, r) }));
const fade = fc
  .tuple(fc.integer({ min: 0, max: 6 }), fc.integer({ min: 0, max: 6 }), rate)
  .map(([a, b, r]) => ({ OTIO_SCHEMA: 'Transition.1', in_offset: time(a, r), out_offset: time(b, r) }));

const track = (depth: number): fc.Arbitrary<Json> =>
  fc
    .record({
      children: fc.array(fc.oneof({ weight: 4, arbitrary: clip }, gap, ...(depth > 0 ? [stack(depth - 1)] : [])), {
        minLength: 1,
        maxLength: 4,
      }),
      fades: fc.array(fc.tuple(fc.integer({ min: 0, max: 4 }), fade), { maxLength: 2 }),
      cut: fc.option(fc.tuple(fc.integer({ min: 0, max: 20 }), fc.integer({ min: 1, max: 30 }), rate), { freq: 3 }),
      kind: fc.constantFrom('Video', 'Audio'),
      effects,
    })
    .map(({ children, fades, cut, kind, effects: own }) => {
      const all: Json[] = [...children];
      for (const [at, one] of fades) {
        // Two transitions side by side are no document.
        const isFade = (i: number) => (all[i] as Json | undefined)?.OTIO_SCHEMA === 'Transition.1';
        if (at <= all.length && !isFade(at) && !isFade(at - 1)) all.splice(at, 0, one);
      }
      return { OTIO_SCHEMA: 'Track.1', kind, children: all, source_range: cut && range(...cut), effects: own };
    });
const stack = (depth: number): fc.Arbitrary<Json> =>
  fc
    .record({
      children: fc.array(track(depth), { minLength: 1, maxLength: 2 }),
      cut: fc.option(fc.tuple(fc.integer({ min: 0, max: 20 }), fc.integer({ min: 1, max: 30 }), rate), { freq: 3 }),
      effects,
      enabled: fc.constantFrom(true, true, false),
    })
    .map(({ children, cut, effects: own, enabled }) => ({
      OTIO_SCHEMA: 'Stack.1',
      children,
      source_range: cut && range(...cut),
      effects: own,
      enabled,
    }));

// ---------------------------------------------------------------------------------------------- reference

const ticks = (value: unknown): number => {
  const { value: frames, rate: perSecond } = value as { value: number; rate: number };
  return (frames * TICKS) / perSecond;
};
const span = (value: unknown): [number, number] | null => {
  if (!value) return null;
  const { start_time: start, duration } = value as { start_time: unknown; duration: unknown };
  return [ticks(start), ticks(start) + ticks(duration)];
};
const isA = (value: Json, name: string) => String(value.OTIO_SCHEMA).startsWith(`${name}.`);
const childrenOf = (value: Json) => value.children as Json[];
const active = (value: Json) => (value.media_references as Record<string, Json>).DEFAULT_MEDIA!;
const speedOf = (value: Json): number =>
  ((value.effects as Json[] | undefined) ?? [])
    .filter((effect) => effect.enabled !== false)
    .reduce(
      (speed, effect) =>
        isA(effect, 'FreezeFrame') ? 0 : isA(effect, 'LinearTimeWarp') ? speed * Number(effect.time_scalar) : speed,
      1,
    );

function lengthOf(value: Json): number {
  if (isA(value, 'Transition')) return 0;
  const own = span(value.source_range);
  if (own) return own[1] - own[0];
  if (isA(value, 'Clip')) {
    const [begin, end] = span(active(value).available_range)!;
    return end - begin;
  }
  return insideOf(value);
}
function insideOf(value: Json): number {
  const lengths = childrenOf(value).map(lengthOf);
  if (isA(value, 'Stack')) return Math.max(...lengths);
  const [first, last] = [childrenOf(value)[0]!, childrenOf(value).at(-1)!];
  return (
    lengths.reduce((sum, one) => sum + one, 0) +
    (isA(first, 'Transition') ? ticks(first.in_offset) : 0) +
    (isA(last, 'Transition') ? ticks(last.out_offset) : 0)
  );
}

/** What is shown of `value` at `at`, counted from where it begins: media by name, with the instant in its own time. */
function shownAt(value: Json, at: number, found: (name: string, at: number, reference: Json) => void): void {
  if (isA(value, 'Gap') || isA(value, 'Transition')) return;
  const isClip = isA(value, 'Clip');
  const [begin, end] =
    span(value.source_range) ?? (isClip ? span(active(value).available_range)! : [0, insideOf(value)]);
  const speed = speedOf(value);
  // Backwards: from the end of its piece, from what its speed makes its end, or from its start, by whoever plays it.
  const starts = speed < 0 ? [end, begin + (end - begin) * -speed, begin] : [begin];
  for (const start of starts) {
    const own = start + at * speed;
    if (isClip) {
      for (const one of Object.values(value.media_references as Record<string, Json>))
        found(String(one.target_url), own, one);
      continue;
    }
    if (isA(value, 'Stack')) {
      for (const child of childrenOf(value)) if (own >= 0 && own < lengthOf(child)) shownAt(child, own, found);
      continue;
    }
    let from = 0;
    const all = childrenOf(value);
    for (const [i, child] of all.entries()) {
      if (isA(child, 'Transition')) continue;
      const [before, after] = [all[i - 1], all[i + 1]];
      const low = from - (before && isA(before, 'Transition') ? ticks(before.in_offset) : 0);
      const high = from + lengthOf(child) + (after && isA(after, 'Transition') ? ticks(after.out_offset) : 0);
      if (own >= low && own < high) shownAt(child, own - from, found);
      from += lengthOf(child);
    }
  }
}

test(`no frame that is shown is told as unused, in ${RUNS} documents`, () => {
  let frames = 0;
  let ambiguous = 0;
  fc.assert(
    fc.property(stack(2), rate, (tracks, output) => {
      const reading = readOtio(JSON.stringify({ OTIO_SCHEMA: 'Timeline.1', name: 'T', tracks }));
      if (!reading.ok) throw new Error(JSON.stringify(reading.trouble));
      const { media, timelines } = reading.document;
      expect(reading.document.notes).toEqual([]);
      const told = new Map<string, [number, number][]>();
      for (const { media: key, range: own, rate: r } of timelines[0]!.uses) {
        const id = `${media[key]!.target} ${r.num / r.den}`;
        told.set(id, [...(told.get(id) ?? []), [own.start, own.start + own.duration]]);
      }
      const isOpen = /"time_scalar":-/.test(JSON.stringify(tracks));
      const shown = new Map<string, Set<number>>();
      for (let at = 0; at < lengthOf(tracks); at += TICKS / output)
        shownAt(tracks, at, (name, own, one) => {
          const [begin, end] = span(one.available_range)!;
          const r = ((one.available_range as Json).duration as { rate: number }).rate;
          // What the media does not have cannot be shown.
          if (own < begin || own >= end) return;
          const id = `${name} ${r}`;
          shown.set(id, (shown.get(id) ?? new Set<number>()).add(Math.floor((own * r) / TICKS + 1e-9)));
        });
      for (const [id, all] of shown)
        for (const frame of all) {
          frames++;
          if (isOpen) ambiguous++;
          const isTold = (told.get(id) ?? []).some(([from, to]) => frame >= from && frame < to);
          if (!isTold) throw new Error(`${id}: frame ${frame} is shown and not told: ${JSON.stringify(told.get(id))}`);
        }
    }),
    { numRuns: RUNS },
  );
  expect(frames).toBeGreaterThan(RUNS * 10);
  process.stderr.write(`reach: ${frames} frames shown, all told; ${ambiguous} of them in documents played backwards\n`);
});
