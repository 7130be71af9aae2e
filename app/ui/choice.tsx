// One of what there is, or all of it, in a form that narrows a list: the form is sent as soon as something is chosen.
import clsx from 'clsx';
import { inputLook } from './parts';
import { Select } from './select';

interface ChoiceProps {
  name: string;
  label: string;
  /** What no choice means, for example "every client". */
  none: string;
  /** Values, each with its words where those are others. */
  values: readonly (string | readonly [value: string, words: string])[];
  chosen: string;
  className?: string;
}

export function Choice({ name, label, none, values, chosen, className = 'h-8 !w-44' }: ChoiceProps) {
  if (values.length === 0) return null;
  return (
    <Select
      name={name}
      aria-label={label}
      defaultValue={chosen}
      onChange={(event) => event.currentTarget.form?.requestSubmit()}
      className={clsx(inputLook, 'text-[13px]', className)}
    >
      <option value="">{none}</option>
      {values.map((one) => {
        const [value, words] = typeof one === 'string' ? [one, one] : one;
        return (
          <option key={value} value={value}>
            {words}
          </option>
        );
      })}
    </Select>
  );
}
