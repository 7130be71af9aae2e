// Addresses that keep what the rack has chosen.
import { useCallback, useMemo } from 'react';
import { useLocation, useNavigation, useSearchParams } from 'react-router';

export const LENSES = [
  { to: '/', name: 'Site' },
  { to: '/projects', name: 'Projects' },
  { to: '/space', name: 'Space' },
  { to: '/reclaim', name: 'Reclaim' },
  { to: '/archive', name: 'Archive' },
  { to: '/shelf', name: 'Shelf' },
  { to: '/ledger', name: 'Ledger' },
] as const;

/** Pages beside the lenses, each with its own key. */
export const PLACES = [
  { to: '/nights', name: 'Last night and tonight', key: 'n' },
  { to: '/storage', name: 'Storage', key: 't' },
  { to: '/settings', name: 'Settings', key: 'e' },
] as const;

/** What the address asks for, or will in a moment: a second click must not undo the first that is still on its way. */
export function useAsked(): URLSearchParams {
  const [search] = useSearchParams();
  const { pathname } = useLocation();
  const { location, formMethod } = useNavigation();
  const coming =
    location?.pathname === pathname && (formMethod === undefined || formMethod === 'GET') ? location.search : null;
  return useMemo(() => (coming === null ? search : new URLSearchParams(coming)), [coming, search]);
}

/** Makes addresses of other lenses that narrow to the same volumes. */
export function useLens(): (to: string) => string {
  const chosen = useAsked().get('v');
  return useCallback(
    (to: string) => (chosen ? `${to}${to.includes('?') ? '&' : '?'}v=${encodeURIComponent(chosen)}` : to),
    [chosen],
  );
}

export type To = (changes: Record<string, string | null>) => string;

/** Addresses of the same lens that keep everything but what is changed; null takes a part away. */
export function useTo(): To {
  const search = useAsked();
  return (changes) => {
    const next = new URLSearchParams(search);
    for (const [key, value] of Object.entries(changes))
      if (value === null) next.delete(key);
      else next.set(key, value);
    return `?${next.toString()}`;
  };
}

/** Numbers of the volumes the rack has chosen. */
export function useChosen(): number[] {
  return (useAsked().get('v') ?? '')
    .split(',')
    .map(Number)
    .filter((n) => Number.isSafeInteger(n) && n > 0);
}
