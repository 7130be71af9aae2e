// From what is on disk today to the archive: each part that stays out takes its share away. Every bar carries its number.
import { scaleLinear } from 'd3';
import { size } from '#core/wording/amounts.ts';

interface Step {
  key: string;
  name: string;
  bytes: number;
}

const COLOURS: Record<string, string> = {
  cache: 'var(--kind-cache)',
  render: 'var(--kind-render)',
  proxy: 'var(--kind-proxy)',
  unused: 'var(--kind-source)',
  lent: 'var(--caution)',
  backup: 'var(--kind-backup)',
  delivery: 'var(--kind-delivery)',
  earlier: 'var(--kind-backup)',
  other: 'var(--kind-other)',
};
const HEIGHT = 150;

interface WaterfallProps {
  total: number;
  archive: number;
  /** What comes along that is not in the total. */
  more: number;
  /** What it all goes into, for the last bar. */
  into: string;
  steps: Step[];
}

export function Waterfall({ total, archive, more, into, steps }: WaterfallProps) {
  const y = scaleLinear([0, Math.max(total + more, archive, 1)], [0, HEIGHT]);
  const bars = barsOf({ total, archive, more, into, steps });
  return (
    <ol className="flex items-start gap-3 pt-5" aria-label="From what is on disk to what is written">
      {bars.map((bar) => (
        <li key={bar.key} className="min-w-0 flex-1">
          <div className="relative" style={{ height: HEIGHT }}>
            <div
              aria-hidden
              className="absolute inset-x-0 rounded-[3px]"
              style={{
                bottom: y(Math.max(0, bar.from)),
                height: Math.max(2, y(bar.to) - y(Math.max(0, bar.from))),
                background: bar.wash ? `color-mix(in oklab, ${bar.colour} 45%, var(--raised))` : bar.colour,
                border: bar.wash ? `1px solid ${bar.colour}` : 'none',
              }}
            />
            <div
              className="absolute inset-x-0 text-center text-[13px] font-medium whitespace-nowrap"
              style={{ bottom: y(Math.max(bar.to, 0)) + 2 }}
            >
              {bar.words}
            </div>
          </div>
          <div className="mt-1 border-t border-line pt-1 text-center text-[13px] leading-tight text-ink-2">
            {bar.name}
          </div>
        </li>
      ))}
    </ol>
  );
}

function barsOf({ total, archive, more, into, steps }: WaterfallProps) {
  let at = total + more;
  return [
    {
      key: 'total',
      name: 'On disk',
      words: size(total),
      from: 0,
      to: total,
      colour: 'var(--ink-2)',
      wash: false,
    },
    ...(more > 0
      ? [
          {
            key: 'more',
            name: 'Borrowed and library',
            words: `+${size(more)}`,
            from: total,
            to: total + more,
            colour: 'var(--kind-library)',
            wash: true,
          },
        ]
      : []),
    ...steps
      .filter((step) => step.bytes > 0)
      .map((step) => {
        const bar = {
          key: step.key,
          name: step.name,
          words: `−${size(step.bytes)}`,
          from: at - step.bytes,
          to: at,
          colour: COLOURS[step.key] ?? 'var(--kind-other)',
          wash: true,
        };
        at -= step.bytes;
        return bar;
      }),
    {
      key: 'archive',
      name: into,
      words: size(archive),
      from: 0,
      to: archive,
      colour: 'var(--accent)',
      wash: false,
    },
  ];
}
