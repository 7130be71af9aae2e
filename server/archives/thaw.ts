// Waiting until what lies on a carrier can be read: a store that keeps it cold brings it up when it is asked, and that takes
// hours. The work stays where it is, can be cancelled, and goes on by itself.
import { setTimeout as sleep } from 'node:timers/promises';
import type { JobContext } from '../runtime/context.ts';
import { type CopyPart, withCarrier } from './copies.ts';

const FIRST_LOOK_MS = 500;
const MOST_MS = 30_000;

/** @param wanted of the files of this part; left out: all of it. Gives whether anything had to be waited for. */
export async function untilReady(
  context: JobContext,
  part: CopyPart,
  wanted: (at: string) => boolean = () => true,
): Promise<boolean> {
  for (let wait = FIRST_LOOK_MS, waited = false; ; wait = Math.min(wait * 2, MOST_MS), waited = true) {
    const isReady = await withCarrier(part, async (carrier) => (await carrier.ready?.(part.folder, wanted)) ?? true);
    if (isReady) return waited;
    context.rename('waiting until it has thawed');
    for (let left = wait; left > 0; left -= FIRST_LOOK_MS) {
      context.check();
      await sleep(Math.min(left, FIRST_LOOK_MS));
    }
  }
}
