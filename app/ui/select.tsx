// One of a few, on Radix's select: its list is ours in every browser, walked by arrows and by typing. It is written like the plain element, with
// options as its children, and its value goes along in forms.
import clsx from 'clsx';
import { Select as Radix } from 'radix-ui';
import {
  Children,
  Fragment,
  isValidElement,
  type OptionHTMLAttributes,
  type ReactElement,
  type ReactNode,
  useContext,
  useRef,
  useState,
} from 'react';
import { flushSync } from 'react-dom';
import { FieldName } from './parts';

interface Option {
  value: string;
  words: string;
  disabled: boolean;
}

/** What is asked for by nothing chosen: Radix keeps the empty text for itself. */
const NONE = '\u2400';
const keyOf = (value: string) => (value === '' ? NONE : value);

const wordsOf = (node: ReactNode): string =>
  Children.toArray(node)
    .map((one) => (typeof one === 'string' || typeof one === 'number' ? String(one) : ''))
    .join('');

/** Options among children, fragments and functions that give options. */
function optionsOf(children: ReactNode): Option[] {
  return Children.toArray(children).flatMap((child): Option[] => {
    if (!isValidElement(child)) return [];
    if (child.type === 'option') {
      const {
        value,
        children: words,
        disabled = false,
      } = (child as ReactElement<OptionHTMLAttributes<HTMLOptionElement>>).props;
      return [{ value: String(value ?? wordsOf(words)), words: wordsOf(words), disabled }];
    }
    if (child.type === Fragment) return optionsOf((child as ReactElement<{ children?: ReactNode }>).props.children);
    if (typeof child.type === 'function') return optionsOf((child.type as (props: unknown) => ReactNode)(child.props));
    return [];
  });
}

interface SelectProps {
  name?: string;
  'aria-label'?: string;
  value?: string | number | null;
  defaultValue?: string | number | null;
  /** `form` is the form it is in, with the new value in it. */
  onChange?: (event: {
    target: { value: string };
    currentTarget: { value: string; form: HTMLFormElement | null };
  }) => void;
  disabled?: boolean;
  className?: string;
  title?: string;
  children: ReactNode;
}

export function Select({
  name,
  value,
  defaultValue,
  onChange,
  disabled,
  className,
  title,
  children,
  ...rest
}: SelectProps) {
  const options = optionsOf(children);
  const [own, setOwn] = useState<string | null>(
    defaultValue === undefined || defaultValue === null ? null : String(defaultValue),
  );
  const field = useRef<HTMLInputElement>(null);
  const fieldName = useContext(FieldName);
  const asked = value === undefined || value === null ? own : String(value);
  // Like the plain element: where nothing that there is was asked for, the first stands.
  const chosen = options.find((option) => option.value === asked) ?? options[0];
  const choose = (key: string) => {
    const next = key === NONE ? '' : key;
    flushSync(() => setOwn(next));
    const form = field.current?.form ?? null;
    onChange?.({ target: { value: next }, currentTarget: { value: next, form } });
  };
  return (
    <>
      <input
        ref={field}
        type="hidden"
        name={name}
        value={chosen?.value ?? ''}
        disabled={disabled || name === undefined}
      />
      <Radix.Root value={chosen ? keyOf(chosen.value) : ''} onValueChange={choose} disabled={disabled}>
        <Radix.Trigger
          {...rest}
          aria-labelledby={rest['aria-label'] === undefined ? fieldName : undefined}
          title={title}
          className={clsx(
            'inline-flex items-center justify-between gap-1.5 text-left whitespace-nowrap disabled:opacity-55',
            className,
          )}
        >
          <span className="min-w-0 truncate">
            <Radix.Value>{chosen?.words ?? ''}</Radix.Value>
          </span>
          <Radix.Icon aria-hidden className="text-[10px] text-ink-3">
            ▾
          </Radix.Icon>
        </Radix.Trigger>
        <List options={options} />
      </Radix.Root>
    </>
  );
}

function List({ options }: { options: readonly Option[] }) {
  return (
    <Radix.Portal>
      <Radix.Content
        position="popper"
        sideOffset={4}
        className="z-40 max-h-(--radix-select-content-available-height) min-w-(--radix-select-trigger-width) overflow-hidden rounded-lg border border-line bg-raised p-1 text-[13.5px] shadow-lg"
      >
        <Radix.Viewport>
          {options.map((option) => (
            <Radix.Item
              key={option.value}
              value={keyOf(option.value)}
              disabled={option.disabled}
              data-value={option.value}
              className="flex min-h-7 cursor-default items-center rounded-md px-2 outline-none data-disabled:opacity-55 data-highlighted:bg-accent-wash data-[state=checked]:font-semibold"
            >
              <Radix.ItemText>{option.words}</Radix.ItemText>
            </Radix.Item>
          ))}
        </Radix.Viewport>
      </Radix.Content>
    </Radix.Portal>
  );
}
