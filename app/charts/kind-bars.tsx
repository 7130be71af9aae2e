// Bytes by kind as bars with their numbers beside them. D3 computes, React draws; the list is the chart.
import { scaleLinear } from 'd3';
import type { Kind } from '#core/model.ts';
import { size } from '#core/say/amounts.ts';
import { kindColour } from '../ui/parts';

export function KindBars({ rows }: { rows: { kind: Kind; bytes: number }[] }) {
  const sorted = [...rows].sort((a, b) => b.bytes - a.bytes);
  const scale = scaleLinear([0, sorted[0]?.bytes ?? 1], [0, 100]);
  return (
    <ul className="grid gap-[7px]">
      {sorted.map((row) => (
        <li key={row.kind} className="grid grid-cols-[74px_minmax(0,1fr)_66px] items-center gap-2">
          <span className="text-ink-2">{row.kind}</span>
          <span aria-hidden className="block h-3.5">
            <span
              className="block h-full rounded-[2px]"
              style={{ width: `max(2px, ${scale(row.bytes)}%)`, background: kindColour(row.kind) }}
            />
          </span>
          <span className="text-right font-medium">{size(row.bytes)}</span>
        </li>
      ))}
    </ul>
  );
}
