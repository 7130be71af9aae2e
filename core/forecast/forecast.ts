// When a volume is full, from daily samples: a robust line and its interval. A single day of much copying or deleting
// hardly moves it. Called by the rack, the site lens and `keramion forecast`.
// Source: Theil (1950), Sen (1968); the interval of the slope from the ranks of Kendall's S, as in Sen (1968).

export interface Sample {
  /** Days since 1970, UTC. */
  day: number;
  bytes: number;
}

export type Forecast =
  /** Fewer than `needed` days, or all of them too close together. */
  | { says: 'too few days'; days: number; needed: number }
  | { says: 'full'; bytesPerDay: number }
  | { says: 'shrinking' | 'steady'; bytesPerDay: number }
  /** Full in this many days from the last sample; `latest` is null where the slow end of the interval never gets there. */
  | { says: 'fills'; bytesPerDay: number; days: number; earliest: number; latest: number | null };

/** Fewer samples give a line that one upload can turn around. */
export const LEAST_SAMPLES = 5;
/** Two-sided 80 %: of ten forecasts, eight should hold. */
const NORMAL_QUANTILE = 1.2816;
/** Beyond this nobody plans; it is called steady. */
export const FURTHEST_DAYS = 730;

/** All slopes between two samples, sorted; days that coincide give none. */
function slopesOf(samples: readonly Sample[]): Float64Array {
  const slopes: number[] = [];
  for (let i = 0; i < samples.length; i++)
    for (let j = i + 1; j < samples.length; j++) {
      const days = samples[j]!.day - samples[i]!.day;
      if (days !== 0) slopes.push((samples[j]!.bytes - samples[i]!.bytes) / days);
    }
  return Float64Array.from(slopes).sort();
}

const median = (sorted: Float64Array): number => {
  const half = sorted.length >> 1;
  return sorted.length % 2 === 1 ? sorted[half]! : (sorted[half - 1]! + sorted[half]!) / 2;
};

export interface Trend {
  bytesPerDay: number;
  low: number;
  high: number;
}

/** The median slope and its 80 % interval; null where there are too few samples. */
export function trendOf(given: readonly Sample[]): Trend | null {
  const samples = oneADay(given);
  if (samples.length < LEAST_SAMPLES) return null;
  const slopes = slopesOf(samples);
  const n = samples.length;
  const spread = NORMAL_QUANTILE * Math.sqrt((n * (n - 1) * (2 * n + 5)) / 18);
  const at = (rank: number) => slopes[Math.min(slopes.length - 1, Math.max(0, Math.round(rank)))]!;
  return {
    bytesPerDay: median(slopes),
    low: at((slopes.length - spread) / 2 - 1),
    high: at((slopes.length + spread) / 2),
  };
}

/** The last sample of each day, in order. */
function oneADay(samples: readonly Sample[]): Sample[] {
  return [...new Map([...samples].sort((a, b) => a.day - b.day).map((s) => [s.day, s])).values()];
}

/**
 * What the samples of the last weeks say about a volume of this capacity.
 * @param nowBytes what it holds now, where that is known better than by the last sample: a purge counts at once
 */
export function forecast(samples: readonly Sample[], capacityBytes: number, nowBytes?: number): Forecast {
  const days = oneADay(samples);
  const trend = trendOf(days);
  const last = days.at(-1);
  if (!trend || !last) return { says: 'too few days', days: days.length, needed: LEAST_SAMPLES };
  const { bytesPerDay } = trend;
  const left = capacityBytes - (nowBytes ?? last.bytes);
  if (left <= 0) return { says: 'full', bytesPerDay };
  // Under a thousandth of the volume a day nobody would notice within two years.
  const still = capacityBytes / FURTHEST_DAYS / 4;
  if (bytesPerDay < -still) return { says: 'shrinking', bytesPerDay };
  if (bytesPerDay <= 0 || left / bytesPerDay > FURTHEST_DAYS) return { says: 'steady', bytesPerDay };
  const until = (slope: number) => (slope > 0 && left / slope <= FURTHEST_DAYS ? Math.floor(left / slope) : null);
  return {
    says: 'fills',
    bytesPerDay,
    days: Math.floor(left / bytesPerDay),
    earliest: until(trend.high) ?? 0,
    latest: until(trend.low),
  };
}

/** A forecast in the few words the rack has room for. */
export function forecastWords(said: Forecast): string {
  switch (said.says) {
    case 'too few days':
      return 'too few days to tell';
    case 'full':
      return 'full';
    case 'shrinking':
    case 'steady':
      return said.says;
    case 'fills':
      if (said.latest === null) return `full in ${said.earliest} days or later`;
      return said.earliest === said.latest
        ? `full in ${said.days} days`
        : `full in ${said.earliest} to ${said.latest} days`;
  }
}

/** What grew most between two days: sorted, only what grew, with its share of all growth. */
export function growthCauses<Key extends string>(
  before: ReadonlyMap<Key, number>,
  after: ReadonlyMap<Key, number>,
): { key: Key; bytes: number; share: number }[] {
  const grew = [...new Set([...before.keys(), ...after.keys()])]
    .map((key) => ({ key, bytes: (after.get(key) ?? 0) - (before.get(key) ?? 0) }))
    .filter((row) => row.bytes > 0);
  const sum = grew.reduce((n, row) => n + row.bytes, 0);
  return grew.sort((a, b) => b.bytes - a.bytes).map((row) => ({ ...row, share: row.bytes / sum }));
}
