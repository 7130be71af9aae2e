// What lies on a carrier that keeps it cold is brought up when it is asked for, and that takes hours. The work lets go of all that
// it holds meanwhile, is looked at again by itself, and can be cancelled.
import type { JobContext } from '../runtime/context.ts';
import { type CopyPart, withCarrier } from './copies.ts';

/**
 * Asks for what is cold. Throws Waits where it is not there yet.
 * @param wanted of the files of this part; left out: all of it
 */
export async function untilReady(
  context: JobContext,
  part: CopyPart,
  wanted: (at: string) => boolean = () => true,
): Promise<void> {
  const isReady = await withCarrier(part, async (carrier) => (await carrier.ready?.(part.folder, wanted)) ?? true);
  if (!isReady) await context.putOff('waiting until it has thawed');
}
