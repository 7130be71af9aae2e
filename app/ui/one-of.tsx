// One of a few, all of them shown: a row of buttons of which one is on, walked with the arrows.
import { ToggleGroup } from 'radix-ui';

interface OneOfProps<Key extends string> {
  label: string;
  values: readonly { key: Key; words: string }[];
  chosen: Key;
  onChoose: (key: Key) => void;
}

export function OneOf<Key extends string>({ label, values, chosen, onChoose }: OneOfProps<Key>) {
  return (
    <ToggleGroup.Root
      type="single"
      role="radiogroup"
      aria-label={label}
      value={chosen}
      // One of them is always on.
      onValueChange={(key) => key !== '' && onChoose(key as Key)}
      className="flex flex-wrap gap-1"
    >
      {values.map(({ key, words }) => (
        <ToggleGroup.Item
          key={key}
          value={key}
          className="min-h-7 rounded-md border border-line px-2.5 py-1 text-[13px] text-ink-2 data-[state=on]:border-accent data-[state=on]:bg-accent-wash data-[state=on]:font-semibold data-[state=on]:text-accent-deep"
        >
          {words}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  );
}
