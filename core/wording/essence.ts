// What a media file's structure says, in words.
import { perSecond, timecode } from '../time/rates.ts';
import { labelText } from '../time/timecode.ts';

export interface KnownEssence {
  format: string;
  codec: string | null;
  width: number | null;
  height: number | null;
  channels: number | null;
  sampleRate: number | null;
  rateNum: number | null;
  rateDen: number | null;
  durationFrames: number | null;
  startFrame: number | null;
  dropFrame: boolean | null;
  reel: string | null;
}

/** Facts worth a line, each with its name. */
export function essenceWords(known: KnownEssence): { name: string; says: string }[] {
  const lines: { name: string; says: string }[] = [];
  const rate = known.rateNum && known.rateDen ? { num: known.rateNum, den: known.rateDen } : null;
  const shown = rate ? Math.round(perSecond(rate) * 1000) / 1000 : null;
  const isPicture = known.width !== null;
  if (isPicture)
    lines.push({
      name: 'Picture',
      says: [known.codec, `${known.width} by ${known.height}`, shown && `${shown} a second`].filter(Boolean).join(', '),
    });
  if (known.channels)
    lines.push({
      name: 'Sound',
      says: [
        isPicture ? null : known.codec,
        `${known.channels} channels`,
        known.sampleRate && `${known.sampleRate / 1000} kHz`,
      ]
        .filter(Boolean)
        .join(', ')
        .replace(/^1 channels/, '1 channel')
        .replace(', 1 channels', ', 1 channel'),
    });
  if (rate && known.durationFrames !== null && known.durationFrames > 1) {
    const at = isPicture ? rate : { num: 25, den: 1 };
    const frames = isPicture ? known.durationFrames : Math.round((known.durationFrames * 25 * rate.den) / rate.num);
    lines.push({ name: 'Length', says: timecode(frames, at) });
    if (isPicture && known.startFrame !== null)
      lines.push({ name: 'Begins at', says: labelText(known.startFrame, rate, known.dropFrame ?? false) });
  }
  if (known.reel) lines.push({ name: 'Reel', says: known.reel });
  return lines;
}
