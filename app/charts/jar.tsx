// A carrier drawn as a jar: its layers are archives, its height is its capacity.
import { useId } from 'react';
import { size } from '#core/wording/amounts.ts';

interface Layer {
  name: string;
  bytes: number;
}

const SHAPE = 'M18 3h28v9c0 5 14 12 14 38 0 22-10 36-28 36S4 72 4 50C4 24 18 17 18 12z';
const [TOP, BOTTOM] = [12, 86];
export const LAYER_COLOURS = [
  'var(--kind-source)',
  'var(--kind-delivery)',
  'var(--kind-audio)',
  'var(--kind-render)',
  'var(--kind-backup)',
  'var(--kind-library)',
];

export function Jar({ name, layers, capacity }: { name: string; layers: Layer[]; capacity: number }) {
  const clip = useId();
  let at = BOTTOM;
  const used = layers.reduce((sum, layer) => sum + layer.bytes, 0);
  return (
    <svg
      width="64"
      height="90"
      viewBox="0 0 64 90"
      role="img"
      aria-label={`${name}: ${size(used)} of ${size(capacity)}`}
      className="shrink-0"
    >
      <clipPath id={clip}>
        <path d={SHAPE} />
      </clipPath>
      <path d={SHAPE} fill="var(--free)" />
      <g clipPath={`url(#${clip})`}>
        {layers.map((layer, i) => {
          const height = Math.max(2.5, (layer.bytes / Math.max(1, capacity)) * (BOTTOM - TOP));
          at -= height;
          return (
            <rect
              key={i}
              x="0"
              width="64"
              y={at}
              height={height - 0.8}
              fill={LAYER_COLOURS[i % LAYER_COLOURS.length]}
            />
          );
        })}
      </g>
      <path d={SHAPE} fill="none" stroke="var(--ink-3)" strokeWidth="1.6" strokeLinejoin="round" />
    </svg>
  );
}
