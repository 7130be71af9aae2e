// When what is here was last changed, as layers from new to old with their bytes below.
import { size } from '#core/say/amounts.ts';

const SHADES = ['100%', '72%', '48%', '30%', '16%'];

export function Strata({ layers }: { layers: { name: string; bytes: number }[] }) {
  const sum = layers.reduce((n, layer) => n + layer.bytes, 0);
  if (sum === 0) return null;
  return (
    <ul aria-label="Last changed" className="flex gap-0.5">
      {layers.map((layer, i) => (
        <li key={layer.name} className="min-w-[106px]" style={{ flex: `${Math.max(layer.bytes / sum, 0.001)} 1 0` }}>
          <div
            aria-hidden
            className="h-5 rounded-[3px]"
            style={{ background: `color-mix(in oklab, var(--accent-deep) ${SHADES[i]}, var(--ground))` }}
          />
          <div className="mt-1 truncate text-[13px] text-ink-2">
            {layer.name} <b className="text-ink">{size(layer.bytes)}</b>
          </div>
        </li>
      ))}
    </ul>
  );
}
