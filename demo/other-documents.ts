// The demo's documents that are no OpenTimelineIO: an edit list (CMX 3600) and a sound session (DAWproject).
import { labelText } from '#core/time/timecode.ts';
import type { DemoUse } from './otio.ts';

export function edl(title: string, uses: readonly DemoUse[], fps: number): string {
  const rate = { num: fps, den: 1 };
  const label = (frame: number) => labelText(frame, rate);
  let at = fps * 3600;
  const lines = uses.flatMap((use, i) => {
    const number = String(i + 1).padStart(3, '0');
    const event = [label(use.start), label(use.start + use.frames), label(at), label(at + use.frames)].join(' ');
    at += use.frames;
    return [
      `${number}  ${use.media.name.padEnd(8)} V     C        ${event}`,
      `* FROM CLIP NAME: ${use.media.name}.mov`,
    ];
  });
  return [`TITLE: ${title}`, 'FCM: NON-DROP FRAME', `* FRAME RATE: ${fps}`, '', ...lines, ''].join('\n');
}

export interface SessionTrack {
  track: string;
  path: string;
  seconds: number;
  clips: { time: number; seconds: number; from: number }[];
}

/** The entries of a session's zip. */
export function session(title: string, tracks: readonly SessionTrack[]): Record<string, string> {
  const lanes = tracks.map(
    ({ path, seconds, clips }, i) => `      <Lanes track="t${i}" timeUnit="seconds">
        <Clips>
${clips
  .map(
    (
      clip,
    ) => `          <Clip time="${clip.time}" duration="${clip.seconds}" contentTimeUnit="seconds" playStart="${clip.from}">
            <Audio sampleRate="48000" channels="2" duration="${seconds}"><File path="${path}" external="true"/></Audio>
          </Clip>`,
  )
  .join('\n')}
        </Clips>
      </Lanes>`,
  );
  return {
    'project.xml': `<?xml version="1.0" encoding="UTF-8"?>
<Project version="1.0">
  <Application name="a sound workstation" version="1"/>
  <Transport><Tempo unit="bpm" value="120"/></Transport>
  <Structure>
${tracks.map(({ track }, i) => `    <Track id="t${i}" name="${track}" contentType="audio"/>`).join('\n')}
  </Structure>
  <Arrangement name="mix">
    <Lanes timeUnit="beats">
${lanes.join('\n')}
    </Lanes>
  </Arrangement>
</Project>
`,
    'metadata.xml': `<?xml version="1.0" encoding="UTF-8"?>\n<MetaData><Title>${title}</Title></MetaData>\n`,
  };
}
