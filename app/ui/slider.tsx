// A number on a scale, moved by pointer or arrows; what it means is written above it.
import { Slider as Parts } from 'radix-ui';
import { useId } from 'react';

interface SliderProps {
  /** What it means as it stands, for example "Folders of at least 20 GB". */
  words: string;
  value: number;
  most: number;
  onChange: (value: number) => void;
}

export function Slider({ words, value, most, onChange }: SliderProps) {
  const id = useId();
  return (
    <div>
      <div id={id} className="text-[13px] text-ink-2">
        {words}
      </div>
      <Parts.Root
        min={0}
        max={most}
        step={1}
        value={[value]}
        onValueChange={([next]) => onChange(next!)}
        className="relative mt-1 flex h-6 w-full touch-none items-center"
      >
        <Parts.Track className="relative h-1 grow rounded-full bg-line">
          <Parts.Range className="absolute h-full rounded-full bg-accent" />
        </Parts.Track>
        <Parts.Thumb
          aria-labelledby={id}
          aria-valuetext={words}
          className="block size-6 rounded-full border-[7px] border-panel bg-accent"
        />
      </Parts.Root>
    </div>
  );
}
