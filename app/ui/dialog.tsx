// A window over the page that is answered or closed before anything else, on the Radix dialog.
import { Dialog as Radix } from 'radix-ui';
import clsx from 'clsx';
import type { ReactNode } from 'react';

interface DialogProps {
  title: string;
  open: boolean;
  onOpen: (open: boolean) => void;
  /** The button that opens it. */
  opener: ReactNode;
  /** Where it stands and how wide it is; else in the middle. */
  className?: string;
  /** Its title is not shown, as what is in it says the same. */
  isPlain?: boolean;
  /** Once it is closed; the focus goes back to its opener unless that is prevented. */
  onClosed?: (event: Event) => void;
  children: ReactNode;
}

const MIDDLE =
  'top-1/2 left-1/2 max-h-[92vh] max-w-[calc(100vw-1.5rem)] -translate-x-1/2 -translate-y-1/2 overflow-auto rounded-[10px] border bg-raised p-5';

export const Dialog = ({
  title,
  open,
  onOpen,
  opener,
  className,
  isPlain = false,
  onClosed,
  children,
}: DialogProps) => (
  <Radix.Root open={open} onOpenChange={onOpen}>
    <Radix.Trigger asChild>{opener}</Radix.Trigger>
    <Radix.Portal>
      <Radix.Overlay className="fixed inset-0 z-40 bg-ground/80" />
      <Radix.Content
        aria-describedby={undefined}
        onCloseAutoFocus={onClosed}
        className={clsx('fixed z-40 border-line focus:outline-none', !isPlain && MIDDLE, className)}
      >
        <Radix.Title className={isPlain ? 'sr-only' : 'sentence mb-3 !text-lg'}>{title}</Radix.Title>
        {children}
      </Radix.Content>
    </Radix.Portal>
  </Radix.Root>
);

/** A button in it that closes it. */
export const Closes = ({ children }: { children: ReactNode }) => <Radix.Close asChild>{children}</Radix.Close>;
