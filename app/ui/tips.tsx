// What a mark, a bar or a shortened name says in full, beside it: for whatever has a title, by the pointer and by keyboard. One for the
// whole page, so that tables of thousands of rows carry words alone; without scripts the browser's own shows them.
import { Tooltip } from 'radix-ui';
import { useEffect, useState } from 'react';
import { overAll } from './over-all';

interface Shown {
  text: string;
  box: { left: number; top: number; width: number; height: number };
}

const WAITS_MS = 450;
/** Whoever goes from one to the next does not wait again. */
const NEXT_WITHIN_MS = 400;

export function Tips() {
  const [shown, setShown] = useState<Shown | null>(null);
  useEffect(() => following(setShown), []);
  return (
    <Tooltip.Provider delayDuration={0}>
      <Tooltip.Root open={shown !== null}>
        <Tooltip.Trigger asChild>
          <span aria-hidden="true" className="pointer-events-none fixed print:hidden" style={shown?.box} />
        </Tooltip.Trigger>
        <Tooltip.Portal container={overAll()}>
          <Tooltip.Content
            side="bottom"
            sideOffset={6}
            collisionPadding={8}
            className="pointer-events-none z-50 max-w-[min(440px,90vw)] rounded-md border border-line bg-raised px-2 py-1 text-[13px] leading-snug [overflow-wrap:anywhere] whitespace-pre-line text-ink shadow-lg"
          >
            {shown?.text}
          </Tooltip.Content>
        </Tooltip.Portal>
      </Tooltip.Root>
    </Tooltip.Provider>
  );
}

/** Follows pointer and focus until what it gives is called. */
function following(show: (shown: Shown | null) => void): () => void {
  let over: HTMLElement | null = null;
  let taken: Taken | null = null;
  let timer: ReturnType<typeof setTimeout> | undefined;
  let hiddenAt = -Infinity;
  let isOpen = false;
  const hide = () => {
    clearTimeout(timer);
    taken?.giveBack();
    taken = null;
    over = null;
    if (!isOpen) return;
    isOpen = false;
    hiddenAt = performance.now();
    show(null);
  };
  const showSoon = (element: HTMLElement, text: string, at: { x: number } | null) => {
    clearTimeout(timer);
    const again = isOpen || performance.now() - hiddenAt < NEXT_WITHIN_MS;
    timer = setTimeout(
      () => {
        if (!element.isConnected) return hide();
        isOpen = true;
        show({ text, box: boxOf(element, at) });
      },
      again ? 0 : WAITS_MS,
    );
  };
  const onOver = (event: PointerEvent) => {
    if (event.pointerType === 'touch') return;
    const element = titled(event.target);
    if (element === over && !element?.title) return;
    if (element !== over) hide();
    if (!element) return;
    over = element;
    const text = element.title;
    taken?.giveBack();
    taken = takenFrom(element);
    if (saysMore(element, text)) showSoon(element, text, { x: event.clientX });
  };
  const onFocus = (event: FocusEvent) => {
    hide();
    const element = event.target instanceof HTMLElement && event.target.matches(':focus-visible') ? event.target : null;
    if (element?.title && saysMore(element, element.title)) showSoon(element, element.title, null);
  };
  // What is shown would stay where the thing was; what is about to be shown is measured then.
  const onScroll = () => void (isOpen && hide());
  const ends = ['pointerdown', 'keydown', 'blur'] as const;
  const listening = new AbortController();
  const { signal } = listening;
  document.addEventListener('pointerover', onOver, { signal });
  document.addEventListener('pointerleave', hide, { signal });
  document.addEventListener('focusin', onFocus, { signal });
  window.addEventListener('scroll', onScroll, { capture: true, passive: true, signal });
  for (const end of ends) window.addEventListener(end, hide, { capture: true, passive: true, signal });
  return () => {
    hide();
    listening.abort();
  };
}

const titled = (target: EventTarget | null): HTMLElement | null =>
  target instanceof Element ? (target.closest<HTMLElement>('[title]:not([title=""]), [data-tip]') ?? null) : null;

/** What can be read there already is not said once more. */
function saysMore(element: HTMLElement, text: string): boolean {
  const isCut = (one: Element) => one.scrollWidth > one.clientWidth + 1;
  return element.innerText.trim() !== text.trim() || isCut(element) || [...element.querySelectorAll('*')].some(isCut);
}

/** Beside the pointer where the thing is wide: a row has its words where one looks. */
function boxOf(element: HTMLElement, at: { x: number } | null): Shown['box'] {
  const { left, top, width, height } = element.getBoundingClientRect();
  return at && width > 360 ? { left: at.x - 4, top, width: 8, height } : { left, top, width, height };
}

interface Taken {
  giveBack(): void;
}

/** The browser's own would show the same once more. A name that is nothing but its title stays what it is called. */
function takenFrom(element: HTMLElement): Taken {
  const text = element.title;
  const isName =
    !element.hasAttribute('aria-label') && !element.hasAttribute('aria-labelledby') && !element.textContent?.trim();
  element.dataset.tip = text;
  element.removeAttribute('title');
  if (isName) element.setAttribute('aria-label', text);
  return {
    giveBack() {
      delete element.dataset.tip;
      if (isName && element.getAttribute('aria-label') === text) element.removeAttribute('aria-label');
      // What was said anew meanwhile stands.
      if (!element.hasAttribute('title')) element.title = text;
    },
  };
}
