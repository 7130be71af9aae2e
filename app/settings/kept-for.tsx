// How many stay of what is made again and again: the newest, then one an hour, a day, a week, a month.
import type { Thinning } from '#core/reclaim/thin.ts';
import { NumberField } from '../ui/parts';

const SPANS = [
  ['newest', 'The newest'],
  ['hours', 'One an hour, for hours'],
  ['days', 'One a day, for days'],
  ['weeks', 'One a week, for weeks'],
  ['months', 'One a month, for months'],
] as const;

/** Only those spans that `rule` has. */
export function KeptFor({ legend, rule }: { legend: string; rule: Partial<Thinning> }) {
  return (
    <fieldset className="flex flex-wrap gap-x-4 gap-y-3">
      <legend className="mb-1 font-medium">{legend}</legend>
      {SPANS.map(([name, label]) => {
        const value = rule[name];
        return value === undefined ? null : <NumberField key={name} name={name} label={label} value={value} />;
      })}
    </fieldset>
  );
}
