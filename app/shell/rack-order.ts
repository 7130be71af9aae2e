// In which order the rack shows its volumes, and which of them: by the station that they hang on, or the soonest full first.
import type { Forecast } from '#core/forecast/forecast.ts';

export const RACK_ORDERS = ['by station', 'soonest full'] as const;
export type RackOrder = (typeof RACK_ORDERS)[number];

export interface Ordered {
  name: string;
  station: string;
  usedBytes: number;
  capacityBytes: number;
  forecast: Forecast;
}

export interface RackGroup<Volume> {
  /** Null where they are not by station. */
  station: string | null;
  volumes: Volume[];
}

const soonest = ({ forecast }: Ordered): number =>
  forecast.says === 'full' ? 0 : forecast.says === 'fills' ? forecast.earliest : Infinity;
const share = ({ usedBytes, capacityBytes }: Ordered): number => (capacityBytes > 0 ? usedBytes / capacityBytes : 0);

/** @param word only volumes that have it in their name or their station's, in capitals or not */
export function rackGroups<Volume extends Ordered>(
  volumes: readonly Volume[],
  { order, word }: { order: RackOrder; word: string },
): RackGroup<Volume>[] {
  const wanted = word.trim().toLowerCase();
  const shown = volumes.filter(({ name, station }) => `${name}\n${station}`.toLowerCase().includes(wanted));
  if (order === 'soonest full') {
    const apart = (a: number, b: number) => (a === b ? 0 : a - b);
    const sorted = [...shown].sort(
      (a, b) => apart(soonest(a), soonest(b)) || share(b) - share(a) || a.name.localeCompare(b.name),
    );
    return sorted.length === 0 ? [] : [{ station: null, volumes: sorted }];
  }
  const groups = new Map<string, RackGroup<Volume>>();
  for (const volume of shown) {
    const group = groups.get(volume.station) ?? { station: volume.station, volumes: [] };
    group.volumes.push(volume);
    groups.set(volume.station, group);
  }
  return [...groups.values()];
}
