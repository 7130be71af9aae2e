// What is there and need not be seen at once: a line that opens and closes what belongs to it.
import { Collapsible } from 'radix-ui';
import { type ReactNode, useState } from 'react';

interface FoldProps {
  line: ReactNode;
  /** Whether it is open at first. */
  open?: boolean;
  className?: string;
  children: ReactNode;
}

export function Fold({ line, open: atFirst = false, className, children }: FoldProps) {
  const [open, setOpen] = useState(atFirst);
  return (
    <Collapsible.Root open={open} onOpenChange={setOpen} className={className}>
      <Collapsible.Trigger className="flex min-h-6 items-center gap-1.5 text-left text-ink-2 hover:text-ink">
        <span aria-hidden className="inline-block w-3 text-[10px]">
          {open ? '▼' : '▶'}
        </span>
        <span>{line}</span>
      </Collapsible.Trigger>
      <Collapsible.Content>{children}</Collapsible.Content>
    </Collapsible.Root>
  );
}
