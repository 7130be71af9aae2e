// Folders of caches by when they were last changed and how much they hold. The washed area is what the choice takes;
// the table below holds the same rows for keyboard and screen reader.
import { max, scaleLog } from 'd3';
import { useState } from 'react';
import { ago, size } from '#core/say/amounts.ts';

interface Dot {
  folderId: number;
  path: string;
  volume: string;
  bytes: number;
  allBytes: number;
  newestUs: number;
}

const BOX = { width: 620, height: 250, left: 58, right: 14, top: 12, bottom: 34 };
const AGES = [
  [1, 'a day'],
  [7, 'a week'],
  [30, '30 days'],
  [90, '90 days'],
  [365, 'a year'],
] as const;

export function AgeSizePlot({
  folders,
  nowMs,
  age,
  leastBytes,
  chosen,
}: {
  folders: Dot[];
  nowMs: number;
  age: number;
  leastBytes: number;
  chosen: ReadonlySet<number>;
}) {
  const [at, setAt] = useState<Dot | null>(null);
  const most = Math.max(1e9, max(folders, (f) => f.allBytes) ?? 1e9);
  const x = scaleLog([0.5, 500], [BOX.left, BOX.width - BOX.right]).clamp(true);
  const y = scaleLog([1e6, most * 1.6], [BOX.height - BOX.bottom, BOX.top]).clamp(true);
  const days = (dot: Dot) => Math.max(0.5, (nowMs - dot.newestUs / 1000) / 86_400_000);
  const left = x(Math.max(0.5, age));
  const base = y(Math.max(1e6, leastBytes));
  const ticks = [1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12].filter((tick) => tick <= most * 1.6);
  return (
    <figure className="relative">
      <svg
        viewBox={`0 0 ${BOX.width} ${BOX.height}`}
        className="block h-[250px] w-full"
        preserveAspectRatio="none"
        role="img"
        aria-label={`${folders.length} folders of caches by age and size; ${chosen.size} are chosen`}
      >
        <rect
          x={left}
          y={BOX.top}
          width={Math.max(0, BOX.width - BOX.right - left)}
          height={Math.max(0, base - BOX.top)}
          fill="var(--accent-wash)"
          opacity="0.55"
        />
        {ticks.map((tick) => (
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
      {/* Words and dots lie over the plot, so that they keep their form at any width. */}
      <div className="absolute inset-0 text-xs text-ink-3" onMouseLeave={() => setAt(null)}>
        {ticks.map((tick) => (
          <span
            key={tick}
            aria-hidden
            className="absolute -translate-y-1/2 text-right"
            style={{ top: y(tick), left: 0, width: `${((BOX.left - 8) / BOX.width) * 100}%` }}
          >
            {size(tick)
              .replace('.00', '')
              .replace(/(\d)0?\.0 /, '$1 ')}
          </span>
        ))}
        {AGES.map(([d, words]) => (
          <span
            key={d}
            aria-hidden
            className="absolute -translate-x-1/2 whitespace-nowrap"
            style={{ left: `${(x(d) / BOX.width) * 100}%`, top: BOX.height - BOX.bottom + 4 }}
          >
            {words}
          </span>
        ))}
        <span aria-hidden className="absolute right-0 bottom-0">
          last changed
        </span>
        {folders.map((dot) => (
          <span
            key={dot.folderId}
            aria-hidden
            onMouseEnter={() => setAt(dot)}
            className="absolute -translate-x-1/2 -translate-y-1/2 rounded-full"
            style={{
              left: `${(x(days(dot)) / BOX.width) * 100}%`,
              top: y(Math.max(1e6, dot.allBytes)),
              width: chosen.has(dot.folderId) ? 10 : 7,
              height: chosen.has(dot.folderId) ? 10 : 7,
              background: chosen.has(dot.folderId) ? 'var(--accent)' : 'var(--kind-cache)',
            }}
          />
        ))}
        {at && (
          <div className="pointer-events-none absolute top-2 left-[70px] rounded-lg border border-line bg-raised px-3 py-1.5 text-[13px] text-ink">
            <div className="path">{at.path}</div>
            <div>
              {at.volume}: {size(at.allBytes)}, last changed {ago(at.newestUs / 1000, nowMs)}
              {at.bytes < at.allBytes && at.bytes > 0 && `, ${size(at.bytes)} of it old enough`}
            </div>
          </div>
        )}
      </div>
    </figure>
  );
}
