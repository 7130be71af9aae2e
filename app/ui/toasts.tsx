// Short messages over the tray for what was done where nothing else shows it: said to screen readers as well, gone after a while or by Escape.
import { Toast } from 'radix-ui';
import { useEffect, useState } from 'react';

const SHOWN_MS = 5_000;
const MOST = 3;
const EVENT = 'keramion:tell';

interface Told {
  key: number;
  text: string;
}

/** From anywhere on a page. */
export const tell = (text: string): void => void window.dispatchEvent(new CustomEvent(EVENT, { detail: text }));

export function Toasts() {
  const [told, setTold] = useState<Told[]>([]);
  useEffect(() => {
    let key = 0;
    const hear = (event: Event) => {
      const text = (event as CustomEvent<string>).detail;
      setTold((now) => [...now.slice(1 - MOST), { key: key++, text }]);
    };
    window.addEventListener(EVENT, hear);
    return () => window.removeEventListener(EVENT, hear);
  }, []);
  return (
    <Toast.Provider duration={SHOWN_MS} label="Message">
      {told.map(({ key, text }) => (
        <Toast.Root
          key={key}
          onOpenChange={(open) => {
            if (!open) setTold((now) => now.filter((one) => one.key !== key));
          }}
          className="rounded-lg border border-line bg-raised px-3 py-2 text-[13.5px] shadow-lg"
        >
          <Toast.Description>{text}</Toast.Description>
        </Toast.Root>
      ))}
      <Toast.Viewport
        label="Messages ({hotkey})"
        className="fixed right-4 bottom-[54px] z-40 grid max-w-96 gap-2 outline-none"
      />
    </Toast.Provider>
  );
}
