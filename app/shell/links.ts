// Addresses that keep what the rack has chosen.
import { useSearchParams } from 'react-router';
import { useCallback } from 'react';

export const LENSES = [
  { to: '/', name: 'Site' },
  { to: '/projects', name: 'Projects' },
  { to: '/space', name: 'Space' },
  { to: '/reclaim', name: 'Reclaim' },
  { to: '/archive', name: 'Archive' },
  { to: '/shelf', name: 'Shelf' },
  { to: '/ledger', name: 'Ledger' },
] as const;

/** Makes addresses of other lenses that narrow to the same volumes. */
export function useLens(): (to: string) => string {
  const [search] = useSearchParams();
  const chosen = search.get('v');
  return useCallback(
    (to: string) => (chosen ? `${to}${to.includes('?') ? '&' : '?'}v=${encodeURIComponent(chosen)}` : to),
    [chosen],
  );
}

export type To = (changes: Record<string, string | null>) => string;

/** Addresses of the same lens that keep everything but what is changed; null takes a part away. */
export function useTo(): To {
  const [search] = useSearchParams();
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
  const [search] = useSearchParams();
  return (search.get('v') ?? '')
    .split(',')
    .map(Number)
    .filter((n) => Number.isSafeInteger(n) && n > 0);
}
