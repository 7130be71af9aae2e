// What can be done with something: a row's menu under the right button and on a key, and a button that opens a list of choices.
import { ContextMenu, DropdownMenu } from 'radix-ui';
import { type MouseEvent, type ReactNode, useRef, useState } from 'react';
import { useNavigate } from 'react-router';
import { overAll } from './over-all';
import clsx from 'clsx';

export interface RowAction {
  name: string;
  /** One letter that does it on the row itself; none that a page has for itself. */
  letter?: string;
  /** Where it leads, or what it does. */
  to?: string;
  run?: () => void;
  isLoss?: boolean;
}

const LOOK = 'z-40 min-w-44 rounded-lg border border-line bg-raised p-1 text-[13.5px] shadow-lg';
const ITEM =
  'flex min-h-7 cursor-default items-center justify-between gap-6 rounded-md px-2 outline-none data-highlighted:bg-accent-wash data-disabled:opacity-55';

/** The letter that opens the menu of the row one is on. */
export const MENU_LETTER = 'm';

/** Finds what was meant by its place among the rows; a menu belongs to one row at a time. */
export function RowMenus({ of, children }: { of: (row: HTMLElement) => RowAction[] | null; children: ReactNode }) {
  const [actions, setActions] = useState<RowAction[]>([]);
  const [name, setName] = useState('');
  const opener = useRef<HTMLElement | null>(null);
  const act = useAct();
  const meant = (event: MouseEvent) => {
    const row = (event.target as HTMLElement).closest<HTMLElement>('tr[tabindex]');
    const own = row && of(row);
    // Whatever is no row keeps the menu of the browser.
    if (!row || !own || own.length === 0) return event.stopPropagation();
    opener.current = row;
    setName(row.innerText.split('\n')[0]!.split('\t')[0]!.trim());
    setActions(own);
  };
  return (
    <ContextMenu.Root modal={false}>
      <ContextMenu.Trigger asChild>
        <div onContextMenuCapture={meant}>{children}</div>
      </ContextMenu.Trigger>
      <ContextMenu.Portal container={overAll()}>
        <ContextMenu.Content
          aria-label={`What can be done with ${name}`}
          className={LOOK}
          onCloseAutoFocus={(event) => {
            event.preventDefault();
            opener.current?.focus();
          }}
        >
          {actions.map((action) => (
            <ContextMenu.Item
              key={action.name}
              className={clsx(ITEM, action.isLoss && 'text-loss')}
              onSelect={() => act(action)}
            >
              {action.name}
              {action.letter && (
                <kbd aria-hidden className="path text-xs text-ink-3">
                  {action.letter}
                </kbd>
              )}
            </ContextMenu.Item>
          ))}
        </ContextMenu.Content>
      </ContextMenu.Portal>
    </ContextMenu.Root>
  );
}

/** Does what a row offers. */
export function useAct(): (action: RowAction) => void {
  const navigate = useNavigate();
  return ({ to, run }) => {
    run?.();
    if (to !== undefined) void navigate(to);
  };
}

/** Opens the menu of a row where it stands, as the right button would. */
export function openMenuOf(row: HTMLElement): void {
  const { left, top } = row.getBoundingClientRect();
  row.dispatchEvent(
    new globalThis.MouseEvent('contextmenu', {
      bubbles: true,
      cancelable: true,
      clientX: left + 24,
      clientY: top + 24,
    }),
  );
}

interface TicksProps {
  /** What the button says. */
  name: string;
  of: readonly { key: string; name: string }[];
  chosen: ReadonlySet<string>;
  onChoose: (chosen: Set<string>) => void;
}

/** Some of a few, each by a tick; the list stays open while one chooses. */
export function Ticks({ name, of, chosen, onChoose }: TicksProps) {
  return (
    <DropdownMenu.Root modal={false}>
      <DropdownMenu.Trigger className="h-8 rounded-lg border border-line bg-raised px-3 text-[13px] hover:border-ink-3">
        {name}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal container={overAll()}>
        <DropdownMenu.Content align="end" sideOffset={4} className={LOOK}>
          {of.map((one) => (
            <DropdownMenu.CheckboxItem
              key={one.key}
              checked={chosen.has(one.key)}
              onSelect={(event) => event.preventDefault()}
              onCheckedChange={(on) => {
                const next = new Set(chosen);
                if (on) next.add(one.key);
                else next.delete(one.key);
                onChoose(next);
              }}
              className={clsx(ITEM, '!justify-start !gap-2')}
            >
              <span aria-hidden className="inline-block w-4 text-accent">
                {chosen.has(one.key) ? '✓' : ''}
              </span>
              {one.name}
            </DropdownMenu.CheckboxItem>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
