// How full volumes were over the last weeks, and where each is heading: solid is measured, dashed is forecast, a dot is
// where it meets 100 %. The list below the plot says the same in words.
import { line, max, type ScaleLinear, scaleLinear } from 'd3';
import { useState } from 'react';
import type { Forecast, Sample } from '#core/forecast/forecast.ts';
import { forecastWords } from '#core/forecast/forecast.ts';
import { calendarDay, percentFull } from '#core/wording/amounts.ts';
import { useWidth } from './use-width';

export interface Filling {
  volumeId: number;
  name: string;
  capacityBytes: number;
  samples: Sample[];
  forecast: Forecast;
}

const BOX = { height: 200, left: 34, right: 10, top: 10, bottom: 24 };
const AHEAD_DAYS = 42;
const COLOURS = ['var(--loss)', 'var(--caution)', 'var(--ink-2)', 'var(--kind-source)'];

export function FillChart({ rows, today }: { rows: Filling[]; today: number }) {
  const [frame, width] = useWidth<HTMLElement>(400);
  const [at, setAt] = useState<number | null>(null);
  const first = Math.min(today - 14, ...rows.flatMap((row) => row.samples[0]?.day ?? today));
  const x = scaleLinear([first, today + AHEAD_DAYS], [BOX.left, width - BOX.right]);
  const top = Math.max(1, max(rows, (row) => max(row.samples, (s) => s.bytes / row.capacityBytes)) ?? 1);
  const y = scaleLinear([0, top], [BOX.height - BOX.bottom, BOX.top]);
  const nearest = (row: Filling) =>
    at === null ? undefined : row.samples.reduce((a, b) => (Math.abs(b.day - at) < Math.abs(a.day - at) ? b : a));
  const pointed = at === null ? [] : rows.flatMap((row) => nearest(row) ?? []).slice(0, 1);
  return (
    <figure ref={frame}>
      <svg
        viewBox={`0 0 ${width} ${BOX.height}`}
        className="block w-full"
        role="img"
        aria-label={rows.map((row) => `${row.name}: ${forecastWords(row.forecast)}`).join('; ')}
        onMouseLeave={() => setAt(null)}
        onMouseMove={(event) => {
          const box = event.currentTarget.getBoundingClientRect();
          setAt(Math.round(x.invert(((event.clientX - box.left) / box.width) * width)));
        }}
      >
        <Ground x={x} y={y} first={first} today={today} right={width - BOX.right} />
        {rows.map((row, i) => (
          <Way key={row.volumeId} row={row} colour={COLOURS[i % COLOURS.length]!} x={x} y={y} />
        ))}
        {pointed.map((sample) => (
          <line
            key={sample.day}
            x1={x(sample.day)}
            x2={x(sample.day)}
            y1={BOX.top}
            y2={BOX.height - BOX.bottom}
            stroke="var(--ink-3)"
            strokeWidth="0.7"
          />
        ))}
      </svg>
      <InWords rows={rows} at={at} nearest={nearest} />
    </figure>
  );
}

type Scale = ScaleLinear<number, number>;

/** The lines of 0, 50 and 100 %, today, and what lies ahead of it. */
function Ground({ x, y, first, today, right }: { x: Scale; y: Scale; first: number; today: number; right: number }) {
  return (
    <>
      <rect
        x={x(today)}
        y={BOX.top}
        width={x(today + AHEAD_DAYS) - x(today)}
        height={BOX.height - BOX.bottom - BOX.top}
        fill="var(--ground)"
        opacity="0.6"
      />
      {[0, 0.5, 1].map((tick) => (
        <g key={tick}>
          <line
            x1={BOX.left}
            x2={right}
            y1={y(tick)}
            y2={y(tick)}
            stroke="var(--line)"
            strokeWidth={tick === 1 ? 1.2 : 0.6}
          />
          <text x={BOX.left - 6} y={y(tick) + 4} textAnchor="end" fontSize="11" fill="var(--ink-3)">
            {tick * 100}
          </text>
        </g>
      ))}
      <line
        x1={x(today)}
        x2={x(today)}
        y1={BOX.top}
        y2={BOX.height - BOX.bottom}
        stroke="var(--ink-3)"
        strokeDasharray="2 3"
      />
      <text x={BOX.left} y={BOX.height - 8} fontSize="11" fill="var(--ink-3)">
        {calendarDay(first).replace(/ \d{4}$/, '')}
      </text>
      <text x={x(today)} y={BOX.height - 8} fontSize="11" textAnchor="middle" fill="var(--ink-3)">
        today
      </text>
      <text x={right} y={BOX.height - 8} fontSize="11" textAnchor="end" fill="var(--ink-3)">
        in 6 weeks
      </text>
    </>
  );
}

const share = (row: Filling, bytes: number) => bytes / Math.max(1, row.capacityBytes);
const path = line<[number, number]>();

/** One volume: what was measured, and where it leads. */
function Way({ row, colour, x, y }: { row: Filling; colour: string; x: Scale; y: Scale }) {
  const last = row.samples.at(-1);
  if (!last) return null;
  const days = row.forecast.says === 'fills' ? Math.min(row.forecast.days, AHEAD_DAYS) : AHEAD_DAYS;
  const slope = 'bytesPerDay' in row.forecast ? row.forecast.bytesPerDay : null;
  const meets = row.forecast.says === 'fills' && row.forecast.days <= AHEAD_DAYS;
  const ahead = slope === null ? null : Math.max(0, share(row, last.bytes + slope * days));
  return (
    <g stroke={colour} fill="none" strokeWidth="2">
      <path d={path(row.samples.map((s) => [x(s.day), y(share(row, s.bytes))])) ?? ''} />
      {ahead !== null && (
        <path
          d={
            path([
              [x(last.day), y(share(row, last.bytes))],
              [x(last.day + days), y(meets ? 1 : Math.min(1, ahead))],
            ]) ?? ''
          }
          strokeDasharray="4 3"
        />
      )}
      {meets && <circle cx={x(last.day + days)} cy={y(1)} r="4" fill={colour} />}
    </g>
  );
}

interface WordsProps {
  rows: Filling[];
  at: number | null;
  nearest: (row: Filling) => Sample | undefined;
}

function InWords({ rows, at, nearest }: WordsProps) {
  return (
    <ul className="mt-1 grid gap-0.5 text-[13px]">
      {rows.map((row, i) => {
        const sample = nearest(row) ?? row.samples.at(-1);
        return (
          <li key={row.volumeId} className="flex items-baseline gap-2">
            <span
              aria-hidden
              className="size-2.5 shrink-0 rounded-full"
              style={{ background: COLOURS[i % COLOURS.length] }}
            />
            <span className="min-w-0 flex-1 truncate" title={row.name}>
              {row.name}
            </span>
            <span className="text-ink-2">
              {sample
                ? `${percentFull(sample.bytes, row.capacityBytes)} %${at === null ? '' : ` on ${calendarDay(sample.day).replace(/ \d{4}$/, '')}`}`
                : ''}
              {at === null && `, ${forecastWords(row.forecast)}`}
            </span>
          </li>
        );
      })}
    </ul>
  );
}
