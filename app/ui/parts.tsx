// Small parts that every lens uses: buttons, cards, chips, marks, bars. Our look, nothing that computes.
import clsx from 'clsx';
import {
  Children,
  cloneElement,
  type ComponentProps,
  createContext,
  isValidElement,
  type ReactElement,
  type ReactNode,
  useId,
} from 'react';
import { useFetcher } from 'react-router';
import type { Kind, Level } from '#core/model.ts';
import { LEVEL_WORDS } from '#core/model.ts';
import { percentFull, size } from '#core/wording/amounts.ts';
import type { Answer } from '../lib/answer';
import { useFieldError } from './form';

export function Button({
  tone = 'plain',
  className,
  ...rest
}: ComponentProps<'button'> & { tone?: 'plain' | 'first' | 'loss' }) {
  return <button type="button" {...rest} className={clsx(buttonLook(tone), className)} />;
}

export function buttonLook(tone: 'plain' | 'first' | 'loss' = 'plain'): string {
  return clsx(
    'inline-flex h-[30px] items-center justify-center gap-1.5 rounded-lg border px-3 text-[13.5px] font-medium whitespace-nowrap disabled:opacity-55',
    tone === 'plain' && 'border-line bg-raised text-ink enabled:hover:border-ink-3',
    tone === 'first' &&
      'border-accent bg-accent text-on-accent enabled:hover:bg-accent-deep enabled:hover:border-accent-deep',
    tone === 'loss' && 'border-loss bg-raised text-loss',
  );
}

export function Card({
  title,
  aside,
  children,
  className,
}: {
  title?: ReactNode;
  aside?: ReactNode;
  children: ReactNode;
  className?: string;
}) {
  return (
    <section className={clsx('card', className)}>
      {title !== undefined && (
        <header className="mb-2 flex items-baseline justify-between gap-3">
          <h2 className="card-title">{title}</h2>
          {aside && <div className="text-[13px] text-ink-3">{aside}</div>}
        </header>
      )}
      {children}
    </section>
  );
}

export type Tone = 'plain' | 'ok' | 'caution' | 'loss';

export function Chip({ tone = 'plain', children, title }: { tone?: Tone; children: ReactNode; title?: string }) {
  const look = {
    plain: 'bg-line-soft text-ink-2',
    ok: 'bg-ok-wash text-ok',
    caution: 'bg-caution-wash text-caution',
    loss: 'bg-loss-wash text-loss',
  };
  return (
    <span
      title={title}
      className={clsx('inline-block rounded-md px-2 py-0.5 text-xs font-medium whitespace-nowrap', look[tone])}
    >
      {children}
    </span>
  );
}

/** How replaceable: a circle that fills up, always beside its words. */
export function LevelMark({ level }: { level: Level }) {
  const r = 5.5;
  const end = {
    0: null,
    1: 'M7 7 L7 1.5 A5.5 5.500 0 0 1 12.500 7 Z',
    2: 'M7 7 L7 1.5 A5.5 5.500 0 1 1 1.500 7 Z',
    3: null,
  }[level];
  return (
    <svg
      width="14"
      height="14"
      viewBox="0 0 14 14"
      className="inline-block shrink-0 align-[-2px]"
      role="img"
      aria-label={LEVEL_WORDS[level]}
    >
      <circle
        cx="7"
        cy="7"
        r={r}
        fill={level === 3 ? 'currentColor' : 'none'}
        stroke="currentColor"
        strokeWidth="1.3"
      />
      {end && <path d={end} fill="currentColor" />}
    </svg>
  );
}

export const kindColour = (kind: Kind): string => `var(--kind-${kind})`;

export function KindDot({ kind }: { kind: Kind }) {
  return (
    <span
      aria-hidden
      className="inline-block size-2.5 shrink-0 rounded-[3px]"
      style={{ background: kindColour(kind) }}
    />
  );
}

/** A path that is too long is cut in the middle: where it begins and what it ends in tell most. */
export function PathText({ path }: { path: string }) {
  const at = path.lastIndexOf('/') + 1;
  return (
    <span className="path flex min-w-0">
      <span className="truncate whitespace-pre">{path.slice(0, at)}</span>
      <span className="max-w-[75%] shrink-0 truncate whitespace-pre">{path.slice(at)}</span>
    </span>
  );
}

export interface Part {
  key: string;
  bytes: number;
  colour: string;
  label: string;
}

/** A bar of parts on a whole. Its words say the same as its lengths. */
export function Bar({
  parts,
  whole,
  height = 8,
  label,
}: {
  parts: readonly Part[];
  whole: number;
  height?: number;
  label: string;
}) {
  const words = `${label}: ${parts.map((part) => `${part.label} ${size(part.bytes)}`).join(', ') || 'nothing'}, of ${size(whole)}`;
  const full = Math.max(
    whole,
    parts.reduce((sum, part) => sum + part.bytes, 0),
    1,
  );
  return (
    <div
      role="img"
      aria-label={words}
      title={words}
      className="flex gap-px overflow-hidden rounded-[2px] bg-free"
      style={{ height }}
    >
      {parts
        .filter((part) => part.bytes / full > 0.002)
        .map((part) => (
          <div key={part.key} style={{ width: `${(part.bytes / full) * 100}%`, background: part.colour }} />
        ))}
    </div>
  );
}

/** What a volume holds before and after: solid stays, hatched goes, washed comes. */
export function BeforeAfter({
  name,
  before,
  after,
  capacity,
}: {
  name: string;
  before: number;
  after: number;
  capacity: number;
}) {
  const share = (bytes: number) => `${Math.min(100, (bytes / Math.max(capacity, 1)) * 100)}%`;
  // One decimal more where whole per cent would say that nothing changes.
  const same = percentFull(before, capacity) === percentFull(after, capacity);
  const percent = (bytes: number) =>
    same
      ? `${(Math.floor((bytes / Math.max(capacity, 1)) * 1000) / 10).toFixed(1)} %`
      : `${percentFull(bytes, capacity)} %`;
  const [low, high] = [Math.min(before, after), Math.max(before, after)];
  return (
    <div>
      <div className="font-medium">{name}</div>
      <div
        role="img"
        aria-label={`${name}: ${percent(before)} now, ${percent(after)} after`}
        className="my-1 flex h-3 overflow-hidden rounded-[2px] bg-free"
      >
        <div style={{ width: share(low), background: 'var(--ink-2)' }} />
        <div className={before > after ? 'hatch' : 'bg-accent'} style={{ width: share(high - low) }} />
      </div>
      <div className="text-[13px] text-ink-2">
        {percent(before)} to <b className="text-ink">{percent(after)}</b>, {size(Math.max(0, capacity - after))} free
      </div>
    </div>
  );
}

export function Sentence({ children, above }: { children: ReactNode; above?: ReactNode }) {
  return (
    <div className="min-w-0">
      {above && <div className="text-ink-2">{above}</div>}
      <h1 className="sentence">{children}</h1>
    </div>
  );
}

/** What an action answered, said where the button was. */
export function Said({ answer }: { answer: Answer | undefined }) {
  if (!answer) return null;
  return (
    <div
      role={answer.ok ? 'status' : 'alert'}
      className={clsx('rounded-lg px-3 py-2 text-[13px]', answer.ok ? 'bg-ok-wash text-ok' : 'bg-loss-wash text-loss')}
    >
      {answer.ok ? answer.said : answer.error}
      {answer.ok && answer.undo !== undefined && <Undo key={answer.undo} receiptId={answer.undo} />}
    </div>
  );
}

/** What was just done, undone by its receipt. */
export function Undo({ receiptId }: { receiptId: number }) {
  const fetcher = useFetcher<Answer>();
  if (fetcher.data) return <span className="ml-2">{fetcher.data.ok ? 'Undone.' : fetcher.data.error}</span>;
  return (
    <fetcher.Form method="post" action={`/ledger/${receiptId}`} className="ml-2 inline">
      <button
        type="submit"
        name="intent"
        value="undo"
        className="min-h-6 px-1 font-semibold underline"
        disabled={fetcher.state !== 'idle'}
      >
        Undo
      </button>
    </fetcher.Form>
  );
}

export function Empty({ children }: { children: ReactNode }) {
  return <p className="py-6 text-center text-ink-2">{children}</p>;
}

/** What names the one thing in a field: a list of choices shows its own words inside the label, and they are no part of its name. */
export const FieldName = createContext<string | undefined>(undefined);

type Named = ReactElement<{ name?: string; 'aria-invalid'?: boolean; 'aria-describedby'?: string }>;
const isNamed = (child: ReactNode): child is Named =>
  isValidElement<{ name?: string }>(child) && child.props.name !== undefined;

/** A field of a form, with what is wrong with it beside it. */
export function Field({ label, children, hint }: { label: string; children: ReactNode; hint?: ReactNode }) {
  const id = useId();
  const input = Children.toArray(children).find((child) => isNamed(child)) as Named | undefined;
  const error = useFieldError(input?.props.name);
  const wrong = { 'aria-invalid': true, 'aria-describedby': `${id}-error` };
  return (
    <div>
      <label className="block">
        <span id={id} className="mb-1 block text-[13px] text-ink-2">
          {label}
        </span>
        <FieldName value={id}>
          {Children.map(children, (child) => (error && isNamed(child) ? cloneElement(child, wrong) : child))}
        </FieldName>
        {hint && <span className="mt-1 block text-xs text-ink-3">{hint}</span>}
      </label>
      {error && (
        <span id={`${id}-error`} className="mt-1 block text-[13px] text-loss">
          {error}
        </span>
      )}
    </div>
  );
}

/** Volumes to choose from, by their names. */
export const VolumeOptions = ({ volumes }: { volumes: readonly { volumeId: number; name: string }[] }) =>
  volumes.map(({ volumeId, name }) => (
    <option key={volumeId} value={volumeId}>
      {name}
    </option>
  ));

interface NumberFieldProps {
  name: string;
  label: string;
  hint?: ReactNode;
  value: number;
}

/** A whole number that a form asks for. */
export function NumberField({ name, label, hint, value }: NumberFieldProps) {
  return (
    <Field label={label} hint={hint}>
      <input name={name} inputMode="numeric" defaultValue={value} className={`${inputLook} !w-28`} required />
    </Field>
  );
}

export const inputLook =
  'h-[32px] w-full min-w-0 rounded-lg border border-line bg-raised px-2.5 text-[13.5px] text-ink';
