// How wide a picture has become, so that its text keeps its size: a picture that is only stretched has letters of any size.
import { type RefObject, useEffect, useRef, useState } from 'react';

const LEAST = 200;

/** @param first its width in px until it is measured */
export function useWidth<Element extends HTMLElement>(first: number): [RefObject<Element | null>, number] {
  const ref = useRef<Element>(null);
  const [width, setWidth] = useState(first);
  useEffect(() => {
    const element = ref.current;
    if (!element) return;
    const watch = new ResizeObserver(() => setWidth(Math.max(LEAST, Math.round(element.clientWidth))));
    watch.observe(element);
    return () => watch.disconnect();
  }, []);
  return [ref, width];
}
