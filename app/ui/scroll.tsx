// A frame that scrolls in itself: its bars are seen wherever there is more than it shows, on every machine, and what it holds is
// reached by keyboard.
import { ScrollArea } from 'radix-ui';
import clsx from 'clsx';
import type { ComponentProps, CSSProperties } from 'react';

interface ScrollProps extends Omit<ComponentProps<'div'>, 'role'> {
  /** What is in it, for whoever cannot see it. */
  label: string;
  /** No taller than so much. */
  maxHeight?: CSSProperties['maxHeight'];
  /** It may be wider than its frame, as tables are. */
  isWide?: boolean;
  /** How it lies among others. */
  className?: string;
}

export function Scroll({ label, maxHeight, isWide = false, className, children, ref, ...rest }: ScrollProps) {
  return (
    <ScrollArea.Root type="auto" className={clsx('scroll relative overflow-hidden print:overflow-visible', className)}>
      <ScrollArea.Viewport
        {...rest}
        ref={ref}
        role="region"
        aria-label={label}
        tabIndex={0}
        className="w-full rounded-[inherit]"
        style={{ maxHeight }}
      >
        {children}
      </ScrollArea.Viewport>
      <Bar orientation="vertical" />
      {isWide && <Bar orientation="horizontal" />}
      {isWide && <ScrollArea.Corner />}
    </ScrollArea.Root>
  );
}

const Bar = ({ orientation }: { orientation: 'vertical' | 'horizontal' }) => (
  <ScrollArea.Scrollbar
    orientation={orientation}
    className="z-10 flex touch-none p-px select-none data-[orientation=horizontal]:h-2.5 data-[orientation=horizontal]:flex-col data-[orientation=vertical]:w-2.5 print:hidden"
  >
    <ScrollArea.Thumb className="relative flex-1 rounded-full bg-ink-3/45 hover:bg-ink-3/80" />
  </ScrollArea.Scrollbar>
);
