// A checkbox in our look on the Radix primitive.
import { Checkbox as Radix } from 'radix-ui';
import { Check, Minus } from 'lucide-react';

export function Checkbox({
  checked,
  onChange,
  label,
  disabled,
}: {
  checked: boolean | 'some';
  onChange: (checked: boolean) => void;
  label: string;
  disabled?: boolean;
}) {
  return (
    <Radix.Root
      checked={checked === 'some' ? 'indeterminate' : checked}
      onCheckedChange={(value) => onChange(value === true)}
      disabled={disabled}
      aria-label={label}
      className="flex size-4 shrink-0 items-center justify-center rounded-[4px] border border-ink-3 bg-raised text-on-accent disabled:opacity-50 data-[state=checked]:border-accent data-[state=checked]:bg-accent data-[state=indeterminate]:border-accent data-[state=indeterminate]:bg-accent"
    >
      <Radix.Indicator>
        {checked === 'some' ? <Minus size={12} strokeWidth={3} /> : <Check size={12} strokeWidth={3} />}
      </Radix.Indicator>
    </Radix.Root>
  );
}
