// Whether the page is the browser's own by now. The server draws of a long list only what the first screen shows: the rest is
// drawn in the browser, at once where it goes from lens to lens, and right after the first paint where a page is opened.
import { useSyncExternalStore } from 'react';

const never = () => () => undefined;

export const useHydrated = (): boolean =>
  useSyncExternalStore(
    never,
    () => true,
    () => false,
  );

/** Of a long list the beginning on the server, all of it in the browser. */
export function useFirstOnServer<Item>(all: readonly Item[], first: number): readonly Item[] {
  const hydrated = useHydrated();
  return hydrated || all.length <= first ? all : all.slice(0, first);
}
