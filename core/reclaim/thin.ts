// Old backups thinned: the newest so many stay, then one an hour, a day, a week, a month. The newest never goes, and what
// stays says how far back one can still go.
export interface Backup {
  id: number;
  modifiedUs: number;
}

export interface Thinning {
  /** The newest so many stay, whatever their age. */
  newest: number;
  /** Then one an hour for so many hours, one a day, one a week, one a month. */
  hours: number;
  days: number;
  weeks: number;
  months: number;
}

export const USUAL_THINNING: Thinning = { newest: 10, hours: 24, days: 14, weeks: 8, months: 12 };

const HOUR_US = 3_600_000_000;
const SPANS = [
  ['hours', HOUR_US],
  ['days', 24 * HOUR_US],
  ['weeks', 7 * 24 * HOUR_US],
  ['months', 30 * 24 * HOUR_US],
] as const;

/**
 * Numbers of those that may go. How long ago is counted from the newest, so that a series that rests is not thinned away. Of each hour,
 * day, week or month of the calendar (UTC) the first stays: thinned again and again it is the very same, and no promised point
 * wears away.
 */
export function thinned(backups: readonly Backup[], rules: Thinning = USUAL_THINNING): Set<number> {
  const sorted = [...backups].sort((a, b) => b.modifiedUs - a.modifiedUs || b.id - a.id);
  const keep = new Set(sorted.slice(0, Math.max(1, rules.newest)).map(({ id }) => id));
  const newest = sorted[0]?.modifiedUs ?? 0;
  for (const [name, span] of SPANS) {
    const kept = new Set<number>();
    const last = Math.floor(newest / span);
    for (const { id, modifiedUs } of [...sorted].reverse()) {
      const slot = Math.floor(modifiedUs / span);
      if (last - slot >= rules[name] || kept.has(slot)) continue;
      kept.add(slot);
      keep.add(id);
    }
  }
  return new Set(sorted.filter(({ id }) => !keep.has(id)).map(({ id }) => id));
}

/** What backups of one document have in common: its name without numbers, dates and the words that programs add. */
export function seriesOf(name: string): string {
  const dot = name.lastIndexOf('.');
  const [stem, ending] = dot > 0 ? [name.slice(0, dot), name.slice(dot)] : [name, ''];
  const plain = stem
    .normalize('NFC')
    .toLowerCase()
    .replace(/[\d]+/g, '#')
    .replace(/\b(auto ?save|backup|copy|bak|snapshot)\b/g, '')
    .replace(/[\s._\-()#T:]+/gi, ' ')
    .trim();
  return `${plain}${ending.toLowerCase()}`;
}
