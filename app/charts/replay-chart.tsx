// Caches of a volume over the last weeks: the line as it was, the area as it would have been with a rule, and a mark for each
// day on which the rule would have taken something.
import { area, line, scaleLinear } from 'd3';
import { calendarDay, size } from '#core/wording/amounts.ts';
import { useWidth } from './use-width';

interface Day {
  day: number;
  bytes: number;
  ruledBytes: number;
  removedBytes: number;
}

const BOX = { height: 220, left: 56, right: 10, top: 10, bottom: 26 };
const short = (day: number) => calendarDay(day).replace(/ \d{4}$/, '');

export function ReplayChart({ days }: { days: readonly Day[] }) {
  const [frame, width] = useWidth<HTMLElement>(560);
  const [first, last] = [days[0]!, days.at(-1)!];
  const most = Math.max(1, ...days.map((one) => one.bytes));
  const x = scaleLinear([first.day, last.day], [BOX.left, width - BOX.right]);
  const y = scaleLinear([0, most], [BOX.height - BOX.bottom, BOX.top]);
  const was = line<Day>(
    (one) => x(one.day),
    (one) => y(one.bytes),
  );
  const would = area<Day>(
    (one) => x(one.day),
    y(0),
    (one) => y(one.ruledBytes),
  );
  const list = [...days];
  return (
    <figure ref={frame}>
      <svg viewBox={`0 0 ${width} ${BOX.height}`} className="block w-full" role="img" aria-label="Caches by day">
        {[0, 0.5, 1].map((part) => (
          <g key={part}>
            <line
              x1={BOX.left}
              x2={width - BOX.right}
              y1={y(most * part)}
              y2={y(most * part)}
              stroke="var(--line-soft)"
            />
            <text x={BOX.left - 6} y={y(most * part) + 4} textAnchor="end" fontSize="11" fill="var(--ink-3)">
              {part === 0 ? '0' : size(most * part)}
            </text>
          </g>
        ))}
        <path d={would(list) ?? ''} fill="var(--accent)" opacity="0.3" />
        <path d={was(list) ?? ''} fill="none" stroke="var(--ink-2)" strokeWidth="1.5" />
        {list
          .filter((one) => one.removedBytes > 0)
          .map((one) => (
            <line
              key={one.day}
              x1={x(one.day)}
              x2={x(one.day)}
              y1={y(0)}
              y2={y(0) - Math.max(3, (one.removedBytes / most) * (BOX.height - BOX.bottom - BOX.top))}
              stroke="var(--accent)"
              strokeWidth="3"
            />
          ))}
        <text x={BOX.left} y={BOX.height - 8} fontSize="11" fill="var(--ink-3)">
          {short(first.day)}
        </text>
        <text x={width - BOX.right} y={BOX.height - 8} fontSize="11" textAnchor="end" fill="var(--ink-3)">
          {short(last.day)}
        </text>
      </svg>
      <Key />
    </figure>
  );
}

function Key() {
  return (
    <ul className="flex flex-wrap gap-x-5 text-[13px] text-ink-2">
      <li className="flex items-center gap-1.5">
        <span aria-hidden className="inline-block h-0.5 w-5 bg-ink-2" /> as it was
      </li>
      <li className="flex items-center gap-1.5">
        <span aria-hidden className="inline-block size-3 rounded-[2px] bg-accent/30" /> with the rule
      </li>
      <li className="flex items-center gap-1.5">
        <span aria-hidden className="inline-block h-3 w-0.5 bg-accent" /> what it takes that day
      </li>
    </ul>
  );
}
