// When what is here was last changed, as layers from new to old, each as wide as it is large, with its bytes below.
import { size } from '#core/wording/amounts.ts';

const SHADES = ['100%', '72%', '48%', '30%', '16%'];
/** The colour of an age by its place among the layers. */
export const shade = (i: number) => `color-mix(in oklab, var(--accent-deep) ${SHADES[i]}, var(--ground))`;

export function Strata({ layers }: { layers: { name: string; bytes: number }[] }) {
  const sum = layers.reduce((n, layer) => n + layer.bytes, 0);
  if (sum === 0) return null;
  return (
    <div>
      <div aria-hidden className="flex h-5 gap-0.5">
        {layers.map(
          (layer, i) =>
            layer.bytes > 0 && (
              <div
                key={layer.name}
                className="min-w-[3px] rounded-[3px]"
                style={{ flex: `${layer.bytes / sum} 1 0`, background: shade(i) }}
              />
            ),
        )}
      </div>
      <ul aria-label="Last changed" className="mt-1 flex flex-wrap gap-x-6 text-[13px] text-ink-2">
        {layers.map((layer, i) => (
          <li key={layer.name}>
            <span
              aria-hidden
              className="mr-1.5 inline-block size-2.5 rounded-[3px] border border-ink-3"
              style={{ background: shade(i) }}
            />
            {layer.name} <b className="text-ink">{size(layer.bytes)}</b>
          </li>
        ))}
      </ul>
    </div>
  );
}
