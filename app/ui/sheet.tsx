// A sheet that opens upward from the tray over the lens, on the Radix dialog: focus goes in, Escape closes it.
import { Dialog } from 'radix-ui';
import type { ReactNode } from 'react';

export function Sheet({
  open,
  onOpen,
  title,
  children,
}: {
  open: boolean;
  onOpen: (open: boolean) => void;
  title: string;
  children: ReactNode;
}) {
  return (
    <Dialog.Root open={open} onOpenChange={onOpen} modal={false}>
      <Dialog.Portal>
        <div
          aria-hidden
          className="fixed inset-x-0 top-(--bar) bottom-[42px] left-(--rack) z-20 bg-ground/80"
          onClick={() => onOpen(false)}
        />
        <Dialog.Content
          aria-describedby={undefined}
          // The tray's own buttons open and close the sheet themselves.
          onInteractOutside={(event) => {
            if ((event.target as Element).closest('footer')) event.preventDefault();
          }}
          className="fixed @container/lens right-0 bottom-[42px] left-(--rack) z-20 max-h-[calc(100vh-var(--bar)-60px)] min-h-72 overflow-auto rounded-t-2xl border border-b-0 border-line bg-panel px-[22px] pt-5 pb-6 focus:outline-none"
        >
          <Dialog.Title className="sr-only">{title}</Dialog.Title>
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
