// How long it takes to have bytes again that a station makes. The most that came in a day, over a working day, is the least
// that the station can do; where it was never seen to do much, a guess stands in.
export interface DayBytes {
  day: number;
  bytes: number;
}

const WORKING_SECONDS = 8 * 3600;
/** What a workstation renders and caches in a second, where nothing better is known. */
export const GUESSED_RATE = 40e6;

export interface AgainRate {
  bytesPerSecond: number;
  /** From what readings saw; else a guess, where the station was never seen to do as much. */
  isMeasured: boolean;
}

/** @param samples of one volume and kind, oldest first */
export function againRate(samples: readonly DayBytes[]): AgainRate {
  let most = 0;
  for (let i = 1; i < samples.length; i++) {
    const [before, after] = [samples[i - 1]!, samples[i]!];
    const days = after.day - before.day;
    if (days > 0) most = Math.max(most, (after.bytes - before.bytes) / days);
  }
  const measured = most / WORKING_SECONDS;
  return measured > GUESSED_RATE
    ? { bytesPerSecond: measured, isMeasured: true }
    : { bytesPerSecond: GUESSED_RATE, isMeasured: false };
}
