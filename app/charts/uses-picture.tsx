// What uses what: clips on the left, timelines of the scope and other projects on the right, a line for each use. The
// same as a list for those who do not see it.
import { linkHorizontal } from 'd3';
import { useState } from 'react';
import type { Kind } from '#core/model.ts';
import { count } from '#core/wording/amounts.ts';
import { kindColour } from '../ui/parts';
import { Scroll } from '../ui/scroll';

interface PicturedClip {
  clipId: number;
  name: string;
  kind: Kind | null;
  timelines: { timelineId: number; name: string }[];
  borrowedFrom: string | null;
  lentTo: string[];
}

const MOST = 60;
const ROW = 22;
const WIDTH = 686;
const [LEFT, RIGHT] = [205, 410];

export function UsesPicture({ clips }: { clips: readonly PicturedClip[] }) {
  const [pointed, setPointed] = useState<string | null>(null);
  const { shown, right, links, height, y, at, curve } = laidOut(clips);
  const lit = (link: { clip: number; target: string }) => pointed === `c${link.clip}` || pointed === link.target;
  return (
    <Scroll label="What uses what" maxHeight="max(320px, calc(100vh - 340px))" isWide>
      {clips.length > MOST && (
        <p className="py-1 text-[13px] text-ink-2">
          The first {count(MOST)} of {count(clips.length)} clips. Narrow them to see others.
        </p>
      )}
      <svg width={WIDTH} height={height} aria-hidden onPointerLeave={() => setPointed(null)}>
        {links.map((link) => (
          <path
            key={`${link.clip} ${link.target}`}
            d={curve({ source: [LEFT, y(link.clip)], target: [RIGHT, at.get(link.target)!] } as never) ?? undefined}
            fill="none"
            stroke={lit(link) ? 'var(--accent)' : link.target.startsWith('p') ? 'var(--caution)' : 'var(--ink-3)'}
            strokeOpacity={lit(link) ? 1 : 0.55}
            strokeWidth={lit(link) ? 2 : 1.2}
          />
        ))}
        {shown.map((clip, i) => (
          <g key={clip.clipId} onPointerEnter={() => setPointed(`c${i}`)}>
            <circle
              cx={LEFT}
              cy={y(i)}
              r={4}
              fill={
                clip.timelines.length + clip.lentTo.length === 0
                  ? 'var(--free)'
                  : clip.borrowedFrom
                    ? 'var(--caution)'
                    : kindColour(clip.kind ?? 'other')
              }
            />
            <text x={LEFT - 10} y={y(i) + 4} textAnchor="end" className="path" fontSize={12.5} fill="var(--ink)">
              {short(clip.name)}
            </text>
          </g>
        ))}
        {right.map((target) => (
          <Target key={target.key} target={target} at={at.get(target.key)!} onPoint={setPointed} />
        ))}
      </svg>
      <InWords clips={shown} />
    </Scroll>
  );
}

const short = (text: string) => (text.length > 32 ? `${text.slice(0, 20)}…${text.slice(-10)}` : text);

/** Who is where, and what is joined. */
function laidOut(clips: readonly PicturedClip[]) {
  const shown = clips.slice(0, MOST);
  const targets = new Map<string, { key: string; name: string; other: boolean }>();
  const links: { clip: number; target: string }[] = [];
  for (const [i, clip] of shown.entries()) {
    for (const { timelineId, name } of clip.timelines) {
      targets.set(`t${timelineId}`, { key: `t${timelineId}`, name, other: false });
      links.push({ clip: i, target: `t${timelineId}` });
    }
    for (const name of clip.lentTo) {
      targets.set(`p${name}`, { key: `p${name}`, name, other: true });
      links.push({ clip: i, target: `p${name}` });
    }
  }
  const right = [...targets.values()].sort((a, b) => Number(a.other) - Number(b.other));
  const height = Math.max(shown.length, right.length) * ROW + 8;
  const spread = (n: number, of: number) => ((n + 0.5) * (height - 8)) / Math.max(1, of) + 4;
  const y = (clip: number) => spread(clip, shown.length);
  const at = new Map(right.map((target, i) => [target.key, spread(i, right.length)]));
  const curve = linkHorizontal<unknown, [number, number]>();
  return { shown, right, links, height, y, at, curve };
}

interface TargetProps {
  target: { key: string; name: string; other: boolean };
  at: number;
  onPoint: (key: string) => void;
}

function Target({ target, at, onPoint }: TargetProps) {
  return (
    <g onPointerEnter={() => onPoint(target.key)}>
      <rect
        x={RIGHT - 4}
        y={at - 4}
        width={8}
        height={8}
        rx={2}
        fill={target.other ? 'var(--caution)' : 'var(--accent)'}
      />
      <text x={RIGHT + 12} y={at + 4} fontSize={13} fill="var(--ink)">
        {short(target.name)}
        {target.other ? ' (another project)' : ''}
      </text>
    </g>
  );
}

function InWords({ clips: shown }: { clips: readonly PicturedClip[] }) {
  return (
    <ul className="sr-only">
      {shown.map((clip) => (
        <li key={clip.clipId}>
          {clip.name}: {[...clip.timelines.map((one) => one.name), ...clip.lentTo].join(', ') || 'used by nothing'}
        </li>
      ))}
    </ul>
  );
}
