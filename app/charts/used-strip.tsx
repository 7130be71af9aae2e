// The strip that shows which parts of a clip timelines use.
import { shareText } from '#core/reach/scope.ts';

const WIDTH = 134;

export function UsedStrip({ parts }: { parts: { from: number; to: number }[] }) {
  const words =
    parts.length === 0
      ? 'no part used'
      : `${shareText(parts)} used, in ${parts.length === 1 ? 'one part' : `${parts.length} parts`}`;
  return (
    <svg role="img" aria-label={words} width={WIDTH} height="12" className="block">
      <title>{words}</title>
      <rect y="4" width={WIDTH} height="4" rx="2" fill="var(--free)" />
      {parts.map((part, i) => (
        <rect
          key={i}
          x={part.from * WIDTH}
          width={Math.max(2, (part.to - part.from) * WIDTH)}
          height="12"
          rx="2"
          fill="var(--kind-source)"
        />
      ))}
    </svg>
  );
}
