// What the frame knows, for any lens: volumes, and the time that ages are counted from.
import { useRouteLoaderData } from 'react-router';
import type { loader } from './frame.server.ts';

export type FrameData = Awaited<ReturnType<typeof loader>>;

export function useFrame(): FrameData {
  const frame = useRouteLoaderData<typeof loader>('shell/frame');
  if (!frame) throw new Error('A lens was shown outside the frame.');
  return frame;
}
