// Bytes by level on one scale: light where it comes back by itself, dark where nothing brings it back.
import type { Level } from '#core/model.ts';
import { LEVEL_WORDS } from '#core/model.ts';
import { size } from '#core/wording/amounts.ts';

export const LEVEL_COLOURS: Record<Level, string> = {
  0: 'var(--free)',
  1: 'var(--kind-other)',
  2: 'var(--kind-cache)',
  3: 'var(--ink)',
};

interface LevelBarProps {
  byLevel: Record<Level, number>;
  /** What the whole width stands for. */
  whole: number;
  label: string;
}

export function LevelBar({ byLevel, whole, label }: LevelBarProps) {
  const levels = ([0, 1, 2, 3] as const).filter((level) => byLevel[level] > 0);
  const words = levels.map((level) => `${size(byLevel[level])} ${LEVEL_WORDS[level]}`).join(', ');
  return (
    <div role="img" aria-label={`${label}: ${words || 'none'}`} title={words} className="flex h-4 gap-px">
      {levels.map((level) => (
        <div
          key={level}
          className="rounded-[2px] border border-ink-3/40"
          style={{
            width: `max(3px, ${(byLevel[level] / Math.max(1, whole)) * 100}%)`,
            background: LEVEL_COLOURS[level],
          }}
        />
      ))}
    </div>
  );
}
