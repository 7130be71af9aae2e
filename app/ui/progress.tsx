// How far something is, as a bar.
import { Progress as Radix } from 'radix-ui';

/** @param share from 0 to 1 */
export const Progress = ({ share, label }: { share: number; label: string }) => (
  <Radix.Root
    value={Math.round(share * 100)}
    aria-label={label}
    className="h-1.5 w-36 shrink-0 overflow-hidden rounded-full bg-free"
  >
    <Radix.Indicator className="h-full bg-ok" style={{ width: `${share * 100}%` }} />
  </Radix.Root>
);
