// What a person chose for themself on this machine, beyond the page: kept by the browser, and by nobody else.
import { useCallback, useEffect, useState } from 'react';
import type { z } from 'zod';

/** The server does not know it, so a page begins with `usual` and has what is kept right after. */
export function useKept<Value>(key: string, schema: z.ZodType<Value>, usual: Value): [Value, (next: Value) => void] {
  const [value, setValue] = useState(usual);
  useEffect(() => {
    try {
      const parsed = schema.safeParse(JSON.parse(localStorage.getItem(key) ?? 'null'));
      if (parsed.success) setValue(parsed.data);
    } catch {
      // A browser that keeps nothing: it is as usual.
    }
  }, [key, schema]);
  const keep = useCallback(
    (next: Value) => {
      setValue(next);
      try {
        localStorage.setItem(key, JSON.stringify(next));
      } catch {
        // It holds for this page.
      }
    },
    [key],
  );
  return [value, keep];
}
