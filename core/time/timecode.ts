// Timecode of SMPTE ST 12-1: labels of frames, drop and non-drop. Edit lists and start timecodes are told in it.
import type { Rate } from './rates.ts';

export interface Label {
  frame: number;
  dropFrame: boolean;
}

/** Labels a second: 24 for 23.976, 30 for 29.97. */
export const labelsPerSecond = (rate: Rate): number => Math.max(1, Math.round(rate.num / rate.den));

/** Two labels a minute are left out at 30, four at 60; at other rates nothing is dropped. */
const dropped = (base: number): number => (base % 30 === 0 ? base / 15 : 0);

/** 'HH:MM:SS:FF'; ';' or '.' before the frames, or `dropFrame`, means drop. Null where it is no label of the rate. */
export function labelOf(text: string, rate: Rate, dropFrame = false): Label | null {
  const parts = /^(\d{1,2}):(\d{2}):(\d{2})([:;.,])(\d{2,3})$/.exec(text.trim());
  if (!parts) return null;
  const base = labelsPerSecond(rate);
  const [hours, minutes, seconds, frames] = [parts[1], parts[2], parts[3], parts[5]].map(Number) as [
    number,
    number,
    number,
    number,
  ];
  if (hours > 23 || minutes > 59 || seconds > 59 || frames >= base) return null;
  const isDrop = (dropFrame || parts[4] !== ':') && dropped(base) > 0;
  const label = ((hours * 60 + minutes) * 60 + seconds) * base + frames;
  const allMinutes = hours * 60 + minutes;
  return {
    frame: isDrop ? label - dropped(base) * (allMinutes - Math.floor(allMinutes / 10)) : label,
    dropFrame: isDrop,
  };
}

/** The label of a frame counted from midnight. Source: ST 12-1, 'drop frame' counting. */
export function labelText(frame: number, rate: Rate, dropFrame = false): string {
  const base = labelsPerSecond(rate);
  const drop = dropFrame ? dropped(base) : 0;
  const day = framesOfDay(rate, dropFrame);
  let at = ((Math.round(frame) % day) + day) % day;
  if (drop > 0) {
    const tenMinutes = 600 * base - 9 * drop;
    const minute = 60 * base - drop;
    const inTen = at % tenMinutes;
    at += Math.floor(at / tenMinutes) * 9 * drop;
    // The first minute of every ten keeps its labels.
    if (inTen >= 60 * base) at += drop * (1 + Math.floor((inTen - 60 * base) / minute));
  }
  const two = (n: number) => String(n).padStart(2, '0');
  const seconds = Math.floor(at / base);
  const text = [Math.floor(seconds / 3600), Math.floor(seconds / 60) % 60, seconds % 60].map(two).join(':');
  return `${text}${drop > 0 ? ';' : ':'}${two(at % base)}`;
}

/** Frames between midnight and midnight. */
export function framesOfDay(rate: Rate, dropFrame = false): number {
  const base = labelsPerSecond(rate);
  return 24 * 3600 * base - (dropFrame ? dropped(base) * 24 * 54 : 0);
}
