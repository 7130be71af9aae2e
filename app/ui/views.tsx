// Several views of one thing, of which one is open: each has an address of its own, so that it can be kept and sent.
import { Tabs } from 'radix-ui';
import type { ReactNode } from 'react';
import { Link } from 'react-router';
import { buttonLook } from './parts';

interface ViewsProps {
  label: string;
  views: readonly { key: string; words: string; to: string }[];
  /** The one that is open. */
  shown: string;
  /** What stands between their names and what they show. */
  children: ReactNode;
}

/** Arrows go from name to name; Enter and space open one. */
export function Views({ label, views, shown, children }: ViewsProps) {
  return (
    <Tabs.Root value={shown} activationMode="manual">
      <Tabs.List aria-label={label} className="mb-4 flex flex-wrap gap-1">
        {views.map(({ key, words, to }) => (
          <Tabs.Trigger key={key} value={key} asChild>
            <Link
              to={to}
              className={buttonLook(shown === key ? 'first' : 'plain')}
              onKeyDown={(event) => {
                if (event.key === ' ') event.currentTarget.click();
              }}
            >
              {words}
            </Link>
          </Tabs.Trigger>
        ))}
      </Tabs.List>
      <Tabs.Content value={shown} tabIndex={-1} className="focus:outline-none">
        {children}
      </Tabs.Content>
    </Tabs.Root>
  );
}
