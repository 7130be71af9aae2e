// A small form that opens beside what it is about, on the Radix popover: Escape closes it, and the focus goes back.
import clsx from 'clsx';
import { Popover } from 'radix-ui';
import type { ComponentProps, ReactNode } from 'react';

interface PopProps {
  /** What it is for, as whoever cannot see it hears it. */
  label: string;
  /** What opens it. */
  opener: ComponentProps<typeof Popover.Trigger>;
  className?: string;
  children: ReactNode;
}

export const Pop = ({ label, opener, className, children }: PopProps) => (
  <Popover.Root>
    <Popover.Trigger {...opener} />
    <Popover.Portal>
      <Popover.Content
        align="end"
        sideOffset={5}
        collisionPadding={8}
        aria-label={label}
        className={clsx(
          'z-40 rounded-[10px] border border-line bg-raised p-4 shadow-lg focus:outline-none',
          className ?? 'w-80',
        )}
      >
        {children}
      </Popover.Content>
    </Popover.Portal>
  </Popover.Root>
);
