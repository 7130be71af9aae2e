// The top bar: our mark, the lenses, the search field, the person.
import { personForm } from '#contract/forms.ts';
import clsx from 'clsx';
import { useEffect } from 'react';
import { Link, NavLink, useFetcher, useNavigate } from 'react-router';
import type { Answer } from '../lib/answer';
import { Form } from '../ui/form';
import { Pop } from '../ui/pop';
import { Field, inputLook, Said } from '../ui/parts';
import type { FrameData } from './use-frame';
import { LENSES, PLACES, useLens } from './links';
import { RackButton } from './rack';
import { SearchField } from './search-field';
import { isTyping } from './typing';

export function TopBar({ frame }: { frame: FrameData }) {
  const lens = useLens();
  const navigate = useNavigate();
  useEffect(() => {
    const go = (event: KeyboardEvent) => {
      if (isTyping(event.target) || event.ctrlKey || event.metaKey || event.altKey) return;
      const place = LENSES[Number(event.key) - 1];
      const other = PLACES.find(({ key }) => key === event.key);
      if (place) void navigate(lens(place.to));
      else if (other) void navigate(lens(other.to));
    };
    window.addEventListener('keydown', go);
    return () => window.removeEventListener('keydown', go);
  }, [lens, navigate]);
  return (
    <header className="print:hidden col-span-2 flex items-stretch border-b max-[899px]:flex-wrap border-line bg-panel">
      <Link
        to={lens('/')}
        className="flex w-[248px] max-[1099px]:w-auto shrink-0 items-center gap-2.5 overflow-hidden px-4 pr-3 max-[899px]:h-[50px]"
      >
        <Mark />
        <span className="text-[16.5px] font-semibold">Keramion</span>
        <span className="truncate text-[13px] text-ink-3 max-[1099px]:hidden" title={frame.site}>
          {frame.site}
        </span>
      </Link>
      <nav
        aria-label="Lenses"
        className="flex min-w-0 flex-1 gap-[26px] px-[19px] max-[1099px]:gap-4 max-[1099px]:px-2 max-[899px]:order-last max-[899px]:h-[37px] max-[899px]:basis-full max-[899px]:px-4"
      >
        {LENSES.map((place, i) => (
          <NavLink
            key={place.to}
            to={lens(place.to)}
            end={place.to === '/'}
            aria-keyshortcuts={String(i + 1)}
            title={`${place.name}, key ${i + 1}`}
            className={({ isActive }) =>
              clsx(
                'relative flex items-center',
                isActive
                  ? 'font-semibold text-ink after:absolute after:inset-x-0 after:bottom-[-1px] after:h-[3px] after:rounded-t after:bg-accent'
                  : 'text-ink-2 hover:text-ink',
              )
            }
          >
            {place.name}
          </NavLink>
        ))}
      </nav>
      <div className="ml-auto flex items-center gap-4 pr-4">
        <RackButton frame={frame} />
        <SearchField />
        <Person who={frame.who} theme={frame.theme} />
      </div>
    </header>
  );
}

function Mark() {
  return (
    <svg width="22" height="22" viewBox="0 0 32 32" aria-hidden className="shrink-0 text-accent">
      <path
        d="M12 4h8v3c0 2 5 4 5 11 0 6-4 10-9 10s-9-4-9-10c0-7 5-9 5-11z"
        fill="none"
        stroke="currentColor"
        strokeWidth="2.4"
        strokeLinejoin="round"
      />
      <path
        d="M7.4 18.5c3 1.6 5.6-1.600 8.600-1.600s5.600 3.200 8.600 1.600"
        fill="none"
        stroke="currentColor"
        strokeWidth="2.4"
      />
    </svg>
  );
}

const initials = (name: string) =>
  name
    .split(/\s+/)
    .map((word) => word.charAt(0).toUpperCase())
    .slice(0, 2)
    .join('');

const THEMES = [
  ['system', 'as the system'],
  ['light', 'light'],
  ['dark', 'dark'],
] as const;

function Person({ who, theme }: { who: string; theme: string }) {
  const fetcher = useFetcher<Answer>();
  const setTheme = (value: string) => {
    const dark = value === 'dark' || (value === 'system' && matchMedia('(prefers-color-scheme: dark)').matches);
    document.documentElement.dataset.theme = dark ? 'dark' : 'light';
    void fetcher.submit({ theme: value }, { method: 'post', action: '/person' });
  };
  return (
    <Pop
      label="Name and colours"
      className="w-64"
      opener={{
        'aria-label': `${initials(who)} ${who}: name and colours`,
        className:
          'flex size-7 items-center justify-center rounded-full bg-accent-wash text-xs font-semibold text-accent-deep',
        children: initials(who),
      }}
    >
      <Form fetcher={fetcher} schema={personForm} method="post" action="/person">
        <Field label="Receipts are signed">
          <input name="name" defaultValue={who} maxLength={60} className={inputLook} />
        </Field>
      </Form>
      {fetcher.data && !fetcher.data.ok && <Said answer={fetcher.data} />}
      <fieldset className="mt-3">
        <legend className="mb-1 text-[13px] text-ink-2">Colours</legend>
        {THEMES.map(([value, words]) => (
          <label key={value} className="flex h-7 cursor-pointer items-center gap-2">
            <input
              type="radio"
              name="theme"
              value={value}
              checked={theme === value}
              onChange={() => setTheme(value)}
              className="accent-accent"
            />
            {words}
          </label>
        ))}
      </fieldset>
    </Pop>
  );
}
