// What may go by age and size, to be chosen by eye: a box is drawn, moved and dragged by its edges, with the pointer or the
// keyboard. Points are on canvas, so that a site's worth of them follows; the table beside it holds the same for whoever
// does not see it.
import { scaleLog } from 'd3';
import { type KeyboardEvent, type PointerEvent, useEffect, useMemo, useRef, useState } from 'react';
import type { Level } from '#core/model.ts';
import { type Box, boxAround, boxFrom, type Points, within } from '#core/reclaim/box.ts';
import { count, counted, size } from '#core/wording/amounts.ts';
import { useWidth } from './use-width';

interface ChoosingPlotProps {
  points: Points;
  levels: readonly Level[];
  chosen: (index: number) => boolean;
  /** Counts up when what is chosen changed elsewhere. */
  mark: unknown;
  onBox: (inside: number[]) => void;
}

const MARGIN = { left: 52, right: 10, top: 8, bottom: 24 };
const HEIGHT = 190;
/** How near to an edge of the box the pointer takes hold of it, in px. */
const NEAR = 7;
const AGES = [
  [1, 'a day'],
  [7, 'a week'],
  [30, '30 days'],
  [90, '90 days'],
  [365, 'a year'],
  [1825, '5 years'],
] as const;

type Scales = ReturnType<typeof scalesFor>;

function scalesFor(points: Points, width: number) {
  const all = boxAround(points);
  const x = scaleLog(
    [Math.max(0.5, all.leastDays * 0.8), Math.max(2, all.mostDays * 1.25)],
    [MARGIN.left, Math.max(MARGIN.left + 1, width - MARGIN.right)],
  ).clamp(true);
  const y = scaleLog(
    [Math.max(1, all.leastBytes * 0.6), all.mostBytes * 1.6],
    [HEIGHT - MARGIN.bottom, MARGIN.top],
  ).clamp(true);
  return { x, y, all };
}

export function ChoosingPlot({ points, levels, chosen, mark, onBox }: ChoosingPlotProps) {
  const [frame, width] = useWidth<HTMLDivElement>(640);
  const scales = useMemo(() => scalesFor(points, width), [points, width]);
  const [box, setBox] = useState<Box | null>(null);
  const canvas = useCanvas({ points, levels, chosen, mark, scales, width });
  const change = (next: Box | null) => {
    setBox(next);
    onBox(next ? within(points, next) : []);
  };
  const pointer = usePointer(scales, box, change);
  return (
    <div>
      <div
        ref={frame}
        role="group"
        tabIndex={0}
        aria-label={`${counted(points.days.length, 'line')} by age and size. Space draws a box around all; arrow keys move it, with Shift they move its far edges; Escape takes it away.`}
        onKeyDown={(event) => onKey(event, { box, scales, change })}
        {...pointer}
        className="relative cursor-crosshair touch-none rounded-md select-none"
        style={{ height: HEIGHT }}
      >
        <canvas ref={canvas} width={width} height={HEIGHT} className="absolute inset-0 h-full w-full" />
        <Marks scales={scales} />
        {box && <Drawn box={box} scales={scales} />}
      </div>
      <p aria-live="polite" className="mt-1 text-[13px] text-ink-2">
        {box ? boxWords(box, points) : 'Draw a box around what is to go.'}
      </p>
    </div>
  );
}

function boxWords(box: Box, points: Points): string {
  const inside = within(points, box);
  const bytes = inside.reduce((sum, i) => sum + points.bytes[i]!, 0);
  const days = (n: number) =>
    n < 1 ? 'less than a day' : `${count(Math.round(n))} ${Math.round(n) === 1 ? 'day' : 'days'}`;
  return `${days(box.leastDays)} to ${days(box.mostDays)} old, ${size(box.leastBytes)} to ${size(box.mostBytes)} each: ${counted(inside.length, 'line')}, ${size(bytes)}.`;
}

interface Drawing extends Omit<ChoosingPlotProps, 'onBox'> {
  scales: Scales;
  width: number;
}

function useCanvas({ points, levels, chosen, mark, scales, width }: Drawing) {
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    const drawing = canvas.current?.getContext('2d');
    if (!drawing) return;
    const style = getComputedStyle(canvas.current!);
    const colour = (name: string) => style.getPropertyValue(name);
    const of = [colour('--ink-3'), colour('--ink-3'), colour('--kind-cache'), colour('--ink')];
    const accent = colour('--accent');
    drawing.clearRect(0, 0, width, HEIGHT);
    // What is chosen lies on top.
    for (const isChosen of [false, true])
      for (let i = 0; i < points.days.length; i++) {
        if (chosen(i) !== isChosen) continue;
        drawing.fillStyle = isChosen ? accent : of[levels[i]!]!;
        const [x, y] = [scales.x(Math.max(0.5, points.days[i]!)), scales.y(Math.max(1, points.bytes[i]!))];
        const edge = isChosen ? 7 : 5;
        drawing.fillRect(x - edge / 2, y - edge / 2, edge, edge);
      }
    // `mark` stands for what `chosen` answers.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [points, levels, mark, scales, width]);
  return canvas;
}

function Marks({ scales: { x, y, all } }: { scales: Scales }) {
  const sizes = Array.from({ length: 16 }, (_, i) => 10 ** i).filter(
    (bytes) => bytes >= all.leastBytes * 0.6 && bytes <= all.mostBytes * 1.6,
  );
  const ages = AGES.filter(([days]) => days >= x.domain()[0]! && days <= x.domain()[1]!);
  return (
    <div aria-hidden className="pointer-events-none text-xs text-ink-3">
      {sizes.map((bytes) => (
        <span
          key={bytes}
          className="absolute right-0 left-0 border-t border-line"
          style={{ top: y(bytes), marginLeft: MARGIN.left }}
        >
          <span className="absolute -translate-y-1/2 whitespace-nowrap" style={{ left: -MARGIN.left }}>
            {size(bytes).replace('.00', '')}
          </span>
        </span>
      ))}
      {ages.map(([days, words]) => (
        <span key={days} className="absolute -translate-x-1/2 whitespace-nowrap" style={{ left: x(days), bottom: 2 }}>
          {words}
        </span>
      ))}
    </div>
  );
}

const rectOf = (box: Box, { x, y }: Scales) => ({
  left: x(Math.max(0.5, box.leastDays)),
  right: x(Math.max(0.5, box.mostDays)),
  top: y(Math.max(1, box.mostBytes)),
  bottom: y(Math.max(1, box.leastBytes)),
});

function Drawn({ box, scales }: { box: Box; scales: Scales }) {
  const { left, right, top, bottom } = rectOf(box, scales);
  return (
    <div
      aria-hidden
      className="pointer-events-none absolute border-2 border-accent bg-accent/10"
      style={{ left, top, width: Math.max(2, right - left), height: Math.max(2, bottom - top) }}
    />
  );
}

/** What the pointer holds: a corner opposite to which the box grows, edges, or all of it. */
type Hold =
  | { is: 'new'; from: { days: number; bytes: number } }
  | { is: 'edges'; box: Box; at: readonly (keyof Box)[] }
  | { is: 'all'; box: Box; x: number; y: number };

function usePointer(scales: Scales, box: Box | null, change: (box: Box | null) => void) {
  const hold = useRef<Hold | null>(null);
  const placeOf = (event: PointerEvent<HTMLDivElement>) => {
    const at = event.currentTarget.getBoundingClientRect();
    return { x: event.clientX - at.left, y: event.clientY - at.top };
  };
  const valueOf = ({ x, y }: { x: number; y: number }) => ({ days: scales.x.invert(x), bytes: scales.y.invert(y) });
  return {
    onPointerDown(event: PointerEvent<HTMLDivElement>) {
      event.currentTarget.setPointerCapture(event.pointerId);
      const place = placeOf(event);
      hold.current = holdAt(place, box, scales) ?? { is: 'new', from: valueOf(place) };
    },
    onPointerMove(event: PointerEvent<HTMLDivElement>) {
      const held = hold.current;
      if (!held) return;
      const place = placeOf(event);
      const value = valueOf(place);
      if (held.is === 'new') return change(boxFrom(held.from, value));
      if (held.is === 'all') return change(moved(held.box, scales, { x: place.x - held.x, y: place.y - held.y }));
      const next = { ...held.box };
      for (const edge of held.at) next[edge] = edge.endsWith('Days') ? value.days : value.bytes;
      change(boxFrom({ days: next.leastDays, bytes: next.leastBytes }, { days: next.mostDays, bytes: next.mostBytes }));
    },
    onPointerUp() {
      hold.current = null;
    },
  };
}

function holdAt({ x, y }: { x: number; y: number }, box: Box | null, scales: Scales): Hold | null {
  if (!box) return null;
  const { left, right, top, bottom } = rectOf(box, scales);
  const isBeside = x >= left - NEAR && x <= right + NEAR && y >= top - NEAR && y <= bottom + NEAR;
  if (!isBeside) return null;
  const at = (
    [
      ['leastDays', Math.abs(x - left)],
      ['mostDays', Math.abs(x - right)],
      ['mostBytes', Math.abs(y - top)],
      ['leastBytes', Math.abs(y - bottom)],
    ] as const
  ).flatMap(([edge, distance]) => (distance <= NEAR ? [edge] : []));
  return at.length > 0 ? { is: 'edges', box, at } : { is: 'all', box, x, y };
}

/** The box so many px further, as it is seen: on both axes a step is a factor. */
function moved(box: Box, { x, y }: Scales, by: { x: number; y: number }): Box {
  const days = (value: number) => x.invert(x(Math.max(0.5, value)) + by.x);
  const bytes = (value: number) => y.invert(y(Math.max(1, value)) + by.y);
  return {
    leastDays: days(box.leastDays),
    mostDays: days(box.mostDays),
    leastBytes: bytes(box.leastBytes),
    mostBytes: bytes(box.mostBytes),
  };
}

const STEP = 12;
const ARROWS: Record<string, { x: number; y: number }> = {
  ArrowLeft: { x: -STEP, y: 0 },
  ArrowRight: { x: STEP, y: 0 },
  ArrowUp: { x: 0, y: -STEP },
  ArrowDown: { x: 0, y: STEP },
};

function onKey(
  event: KeyboardEvent,
  { box, scales, change }: { box: Box | null; scales: Scales; change: (box: Box | null) => void },
): void {
  const by = ARROWS[event.key];
  if (event.key === ' ') change(scales.all);
  else if (event.key === 'Escape' && box) change(null);
  else if (by && box) {
    const next = moved(box, scales, by);
    // With Shift the far edges alone: the older and the larger.
    change(
      event.shiftKey
        ? boxFrom({ days: box.leastDays, bytes: box.leastBytes }, { days: next.mostDays, bytes: next.mostBytes })
        : next,
    );
  } else return;
  event.preventDefault();
  event.stopPropagation();
}
