// A choice with its words: what it is, what it weighs, and what it means as it stands.
import type { ReactNode } from 'react';

interface TickProps {
  checked: boolean;
  onToggle: () => void;
  name: ReactNode;
  amount?: ReactNode;
  words: ReactNode;
  /** What can be chosen of it once it is ticked. */
  children?: ReactNode;
}

export function Tick({ checked, onToggle, name, amount, words, children }: TickProps) {
  return (
    <li className="py-1.5">
      <label className="grid cursor-pointer grid-cols-[auto_minmax(0,1fr)_auto] items-baseline gap-x-2">
        <input type="checkbox" checked={checked} onChange={onToggle} className="accent-accent" />
        <span>{name}</span>
        {amount ?? <span />}
        <span className="col-span-2 col-start-2 text-[13px] text-ink-2">{words}</span>
      </label>
      {children && <div className="pl-[21px]">{children}</div>}
    </li>
  );
}
