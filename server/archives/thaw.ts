// Waiting until what lies on a carrier can be read: a store that keeps it cold brings it up when it is asked, and that takes
// hours. The work stays where it is, can be cancelled, and goes on by itself.
import { setTimeout as sleep } from 'node:timers/promises';
import type { JobContext } from '../runtime/context.ts';
import { type CopyPart, withCarrier } from './copies.ts';

const FIRST_LOOK_MS = 500;
const MOST_MS = 30_000;

/** @param wanted of the files of this part; left out: all of it */
export async function untilReady(
  context: JobContext,
  part: CopyPart,
  wanted: (at: string) => boolean = () => true,
): Promise<void> {
  const isReady = () => withCarrier(part, async (carrier) => (await carrier.ready?.(part.folder, wanted)) ?? true);
  if (await isReady()) return;
  await context.during('waiting until it has thawed', async () => {
    for (let wait = FIRST_LOOK_MS; ; wait = Math.min(wait * 2, MOST_MS)) {
      for (let left = wait; left > 0; left -= FIRST_LOOK_MS) {
        context.check();
        await sleep(Math.min(left, FIRST_LOOK_MS));
      }
      if (await isReady()) return;
    }
  });
}
