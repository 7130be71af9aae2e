// Many pieces of work at a time, but not more than there are threads for.
/** Runs `work` over a list, `width` at a time; the first error ends it once what runs has ended. */
export async function inParallel<T>(
  width: number,
  list: readonly T[],
  work: (item: T) => Promise<void>,
): Promise<void> {
  let next = 0;
  let failure: { error: unknown } | null = null;
  await Promise.all(
    Array.from({ length: Math.min(width, list.length) }, async () => {
      while (next < list.length && !failure) {
        try {
          await work(list[next++]!);
        } catch (error) {
          failure ??= { error };
        }
      }
    }),
  );
  if (failure) throw (failure as { error: unknown }).error;
}
