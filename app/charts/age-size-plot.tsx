// Folders of caches by when they were last changed and how much they hold. What the choice takes is one dot inside the
// washed area, what stays of the same folder another outside it. The table below holds the same rows for keyboard and
// screen reader.
import { max, scaleLog, type ScaleLogarithmic } from 'd3';
import { useState } from 'react';
import { ago, size } from '#core/wording/amounts.ts';

export interface PlotFolder {
  folderId: number;
  path: string;
  volume: string;
  bytes: number;
  allBytes: number;
  newestUs: number;
  newestOldUs: number;
}

interface Dot {
  key: string;
  folder: PlotFolder;
  bytes: number;
  us: number;
  goes: boolean;
}

const BOX = { width: 640, height: 372, left: 58, right: 16, top: 12, bottom: 36 };
const AGES = [
  [1, 'a day'],
  [7, 'a week'],
  [30, '30 days'],
  [90, '90 days'],
  [365, 'a year'],
] as const;
const TICKS = [
  [1e6, '1 MB'],
  [1e7, '10 MB'],
  [1e8, '100 MB'],
  [1e9, '1 GB'],
  [1e10, '10 GB'],
  [1e11, '100 GB'],
  [1e12, '1 TB'],
  [1e13, '10 TB'],
] as const;

function dotsOf(folder: PlotFolder, chosen: boolean): Dot[] {
  const old = { key: `${folder.folderId} old`, folder, bytes: folder.bytes, us: folder.newestOldUs, goes: chosen };
  const young = {
    key: `${folder.folderId} young`,
    folder,
    bytes: folder.allBytes - folder.bytes,
    us: folder.newestUs,
    goes: false,
  };
  return [old, young].filter((dot) => dot.bytes > 0);
}

const acrossOf = (px: number) => `${(px / BOX.width) * 100}%`;

export interface PlotProps {
  folders: PlotFolder[];
  nowMs: number;
  age: number;
  leastBytes: number;
  chosen: ReadonlySet<number>;
}

export function AgeSizePlot({ folders, nowMs, age, leastBytes, chosen }: PlotProps) {
  const [at, setAt] = useState<Dot | null>(null);
  const most = Math.max(1e9, max(folders, (f) => f.allBytes) ?? 1e9) * 1.6;
  const x = scaleLog([0.5, 500], [BOX.left, BOX.width - BOX.right]).clamp(true);
  const y = scaleLog([1e6, most], [BOX.height - BOX.bottom, BOX.top]).clamp(true);
  const days = (us: number) => Math.max(0.5, (nowMs - us / 1000) / 86_400_000);
  const left = x(Math.max(0.5, age));
  const base = y(Math.max(1e6, leastBytes));
  const ticks = TICKS.filter(([tick]) => tick <= most);
  const dots = folders.flatMap((folder) => dotsOf(folder, chosen.has(folder.folderId)));
  return (
    <figure className="relative">
      <Plot
        x={x}
        y={y}
        left={left}
        base={base}
        ticks={ticks}
        label={`${folders.length} folders of caches by age and size; ${chosen.size} are chosen`}
      />
      {/* Words and dots lie over the plot, so that they keep their form at any width. */}
      <div className="absolute inset-0 text-xs text-ink-3" onMouseLeave={() => setAt(null)}>
        <Marks x={x} y={y} ticks={ticks} />
        {dots.map((dot) => (
          <span
            key={dot.key}
            aria-hidden
            onMouseEnter={() => setAt(dot)}
            className="absolute -translate-x-1/2 -translate-y-1/2 rounded-full opacity-85"
            style={{
              left: acrossOf(x(days(dot.us))),
              top: y(Math.max(1e6, dot.bytes)),
              width: dot.goes ? 10 : 7,
              height: dot.goes ? 10 : 7,
              background: dot.goes ? 'var(--accent)' : 'var(--kind-cache)',
            }}
          />
        ))}
        {at && (
          <div className="pointer-events-none absolute top-3 left-[80px] max-w-[80%] rounded-lg border border-line bg-raised px-3 py-1.5 text-[13px] text-ink">
            <div className="path truncate">{at.folder.path}</div>
            <div>
              {at.folder.volume}: {size(at.bytes)} {at.goes ? 'goes' : 'stays'}, last changed {ago(at.us / 1000, nowMs)}
            </div>
          </div>
        )}
      </div>
    </figure>
  );
}

type Scale = ScaleLogarithmic<number, number>;

interface GroundProps {
  x: Scale;
  y: Scale;
  ticks: readonly (readonly [number, string])[];
}

/** The lines of ages and sizes, and the area that the choice takes. */
function Plot({ x, y, ticks, left, base, label }: GroundProps & { left: number; base: number; label: string }) {
  return (
    <svg
      viewBox={`0 0 ${BOX.width} ${BOX.height}`}
      className="block w-full"
      style={{ height: BOX.height }}
      preserveAspectRatio="none"
      role="img"
      aria-label={label}
    >
      <rect
        x={left}
        y={BOX.top}
        width={Math.max(0, BOX.width - BOX.right - left)}
        height={Math.max(0, base - BOX.top)}
        fill="var(--accent-wash)"
        opacity="0.55"
      />
      {ticks.map(([tick]) => (
        <line
          key={tick}
          x1={BOX.left}
          x2={BOX.width - BOX.right}
          y1={y(tick)}
          y2={y(tick)}
          stroke="var(--line-soft)"
          vectorEffect="non-scaling-stroke"
        />
      ))}
      {AGES.map(([d]) => (
        <line
          key={d}
          y1={BOX.top}
          y2={BOX.height - BOX.bottom}
          x1={x(d)}
          x2={x(d)}
          stroke="var(--line-soft)"
          vectorEffect="non-scaling-stroke"
        />
      ))}
      <path
        d={`M${left} ${BOX.top}V${base}H${BOX.width - BOX.right}`}
        fill="none"
        stroke="var(--accent)"
        strokeWidth="1.5"
        vectorEffect="non-scaling-stroke"
      />
    </svg>
  );
}

function Marks({ x, y, ticks }: GroundProps) {
  return (
    <>
      {ticks.map(([tick, words]) => (
        <span
          key={tick}
          aria-hidden
          className="absolute left-0 -translate-y-1/2 text-right"
          style={{ top: y(tick), width: acrossOf(BOX.left - 8) }}
        >
          {words}
        </span>
      ))}
      {AGES.map(([d, words]) => (
        <span
          key={d}
          aria-hidden
          className="absolute -translate-x-1/2 whitespace-nowrap"
          style={{ left: acrossOf(x(d)), top: BOX.height - BOX.bottom + 4 }}
        >
          {words}
        </span>
      ))}
      <span aria-hidden className="absolute -translate-x-1/2" style={{ left: '50%', bottom: -2 }}>
        last changed
      </span>
    </>
  );
}
