// The search field: key / opens it, names are found as they are typed, arrows walk, Enter goes there.
import clsx from 'clsx';
import { type RefObject, useEffect, useId, useRef, useState } from 'react';
import { useFetcher, useNavigate } from 'react-router';
import { size } from '#core/wording/amounts.ts';
import type { Found, Hit } from '#server/search/search.ts';
import { isTyping } from './typing';

/** The last line of what was found: what of these files could go. */
type Choice = Hit | { what: 'can go'; id: 0; name: string; where: string; parentId: null; bytes: null };

const choicesOf = (hits: readonly Hit[], text: string): readonly Choice[] =>
  hits.some((hit) => hit.what === 'file')
    ? [
        ...hits,
        {
          what: 'can go',
          id: 0,
          name: `What can go of files with “${text.trim()}”`,
          where: 'unused media, renders, what is there twice: by how replaceable it is',
          parentId: null,
          bytes: null,
        },
      ]
    : hits;

const placeOf = (hit: Choice, text: string): string => {
  switch (hit.what) {
    case 'can go':
      return `/reclaim?work=1&find=${encodeURIComponent(text.trim())}`;
    case 'project':
      return `/projects/${hit.id}`;
    case 'clip':
      return `/projects/${hit.parentId}?bin=all&find=${encodeURIComponent(hit.name)}`;
    case 'volume':
      return `/space?v=${hit.id}`;
    case 'folder':
      return `/space?folder=${hit.id}`;
    case 'file':
      return `/space?folder=${hit.parentId}&file=${hit.id}`;
    case 'carrier':
      return `/shelf/carrier/${hit.id}`;
    case 'archive':
      return `/shelf/${hit.id}`;
    case 'timeline':
    case 'archived':
    case 'archived clip':
    case 'archived bin':
      return `/shelf/${hit.parentId}?q=${encodeURIComponent(hit.name)}`;
  }
};

export function SearchField() {
  const fetcher = useFetcher<Found & { text: string }>();
  const navigate = useNavigate();
  const input = useRef<HTMLInputElement>(null);
  const list = useId();
  const [text, setText] = useState('');
  const [at, setAt] = useState(0);
  const [open, setOpen] = useState(false);
  useSlash(input);
  useAsking(text, fetcher.load);
  const current = fetcher.state === 'idle' && fetcher.data?.text === text ? fetcher.data : null;
  const hits = text.trim().length < 2 ? [] : choicesOf(fetcher.data?.hits ?? [], text);
  const go = (hit: Choice) => {
    setOpen(false);
    setText('');
    input.current?.blur();
    void navigate(placeOf(hit, text));
  };
  const onKey = (event: React.KeyboardEvent) => {
    if (event.key === 'ArrowDown') setAt((n) => Math.min(n + 1, hits.length - 1));
    else if (event.key === 'ArrowUp') setAt((n) => Math.max(n - 1, 0));
    else if (event.key === 'Enter' && hits[at]) go(hits[at]);
    else if (event.key === 'Escape') {
      setOpen(false);
      input.current?.blur();
    } else return;
    event.preventDefault();
  };
  const shown = open && text.trim().length >= 2;
  return (
    <div
      className="relative w-[250px] max-[1150px]:w-[180px] max-[899px]:w-[250px]"
      onBlur={(event) => event.currentTarget.contains(event.relatedTarget) || setOpen(false)}
    >
      <input
        ref={input}
        role="combobox"
        aria-label="Find a file, project or carrier"
        aria-expanded={shown}
        aria-controls={list}
        aria-activedescendant={shown && hits[at] ? `${list}-${at}` : undefined}
        aria-keyshortcuts="/"
        placeholder="Find a file, project or carrier"
        value={text}
        onFocus={() => setOpen(true)}
        onChange={(event) => {
          setText(event.target.value);
          setAt(0);
          setOpen(true);
        }}
        onKeyDown={onKey}
        className="h-[33px] w-full rounded-lg border border-line bg-raised pr-8 pl-2.5 placeholder:text-ink-3"
      />
      <SlashKey />
      <Results shown={shown} list={list} text={text} current={current} hits={hits} at={at} onAt={setAt} onGo={go} />
    </div>
  );
}

interface HitsProps {
  list: string;
  text: string;
  /** What was answered to just this text; null while it is looked for. */
  current: Found | null;
  hits: readonly Choice[];
  at: number;
  onAt: (at: number) => void;
  onGo: (hit: Choice) => void;
}

function Hits({ list, text, current, hits, at, onAt, onGo }: HitsProps) {
  return (
    <>
      {current && current.filters.length > 0 && (
        <p className="border-b border-line-soft px-3 py-1.5 text-[13px] text-ink-2">
          Files, {current.filters.join(', ')}
        </p>
      )}
      {hits.length === 0 && (
        <p className={clsx('px-3 py-2', current?.trouble ? 'text-caution' : 'text-ink-2')}>
          {!current ? 'Looking …' : (current.trouble ?? `Nothing is found for "${text}".`)}
        </p>
      )}
      {hits.length > 0 && current?.trouble && <p className="px-3 py-1.5 text-[13px] text-caution">{current.trouble}</p>}
      {hits.map((hit, i) => (
        <div
          key={`${hit.what} ${hit.id}`}
          id={`${list}-${i}`}
          role="option"
          aria-selected={i === at}
          onMouseEnter={() => onAt(i)}
          onMouseDown={(event) => {
            event.preventDefault();
            onGo(hit);
          }}
          className={clsx(
            'flex cursor-pointer items-baseline gap-3 rounded-md px-2 py-1',
            i === at && 'bg-accent-wash',
          )}
        >
          <span className="w-14 shrink-0 text-xs text-ink-2">{hit.what.replace('archived ', '')}</span>
          <span className="min-w-0 flex-1">
            <span className="block truncate">{hit.name}</span>
            <span className="block truncate text-xs text-ink-2">{hit.where}</span>
          </span>
          {hit.bytes !== null && <span className="shrink-0 text-[13px]">{size(hit.bytes)}</span>}
        </div>
      ))}
    </>
  );
}

/** The key / leads to the field, unless somebody is typing elsewhere. */
function useSlash(input: RefObject<HTMLInputElement | null>) {
  useEffect(() => {
    const focus = (event: KeyboardEvent) => {
      if (event.key !== '/' || isTyping(event.target)) return;
      event.preventDefault();
      input.current?.focus();
    };
    window.addEventListener('keydown', focus);
    return () => window.removeEventListener('keydown', focus);
  }, [input]);
}

/** Asks once the typing rests. */
function useAsking(text: string, load: (href: string) => Promise<void>) {
  useEffect(() => {
    if (text.trim().length < 2) return;
    const wait = setTimeout(() => void load(`/search?q=${encodeURIComponent(text)}`), 120);
    return () => clearTimeout(wait);
  }, [text, load]);
}

function Results({ shown, ...hits }: HitsProps & { shown: boolean }) {
  return (
    <div
      id={hits.list}
      role="listbox"
      aria-label="Found"
      hidden={!shown}
      className="absolute right-0 z-30 mt-1 max-h-[70vh] w-[420px] max-w-[calc(100vw-1.5rem)] overflow-auto rounded-[10px] border border-line bg-raised p-1"
    >
      <Hits {...hits} />
      <p className="mt-1 border-t border-line-soft px-3 py-1.5 text-xs text-ink-3">
        Narrow with kind:cache, project:ferry, on:loft-1, over 2 GB, older than 3 months
      </p>
    </div>
  );
}

function SlashKey() {
  return (
    <kbd
      aria-hidden
      className="pointer-events-none absolute top-[7px] right-2 rounded border border-line px-1.5 text-xs text-ink-3"
    >
      /
    </kbd>
  );
}
