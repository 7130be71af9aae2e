// All keys, on one sheet that a key opens.
import { Sheet } from '../ui/sheet';
import { LENSES, PLACES } from './links';

const KEYS: readonly { of: string; keys: readonly (readonly [key: string, words: string])[] }[] = [
  {
    of: 'Go to',
    keys: [
      ...LENSES.map(({ name }, i) => [String(i + 1), name] as const),
      ...PLACES.map(({ key, name }) => [key, name] as const),
    ],
  },
  {
    of: 'Open',
    keys: [
      ['/', 'the search field'],
      ['p', 'the plan'],
      ['w', 'work'],
      ['?', 'these keys'],
      ['Esc', 'closes what is open'],
    ],
  },
  {
    of: 'In a list',
    keys: [
      ['Tab', 'to the list, and out of it'],
      ['↑ ↓', 'from row to row'],
      ['Space', 'ticks a box'],
      ['Enter', 'opens'],
      ['m', 'what can be done with the row'],
    ],
  },
];

export function KeySheet({ open, onOpen }: { open: boolean; onOpen: (open: boolean) => void }) {
  return (
    <Sheet open={open} onOpen={onOpen} title="Keys">
      <h2 className="sentence mb-3">Keys</h2>
      <div className="grid grid-cols-1 wide:grid-cols-3 gap-6">
        {KEYS.map(({ of, keys }) => (
          <section key={of}>
            <h3 className="card-title mb-2">{of}</h3>
            <dl className="grid grid-cols-[64px_minmax(0,1fr)] gap-y-1.5">
              {keys.map(([key, words]) => (
                <div key={key} className="contents">
                  <dt>
                    <kbd className="path rounded border border-line bg-raised px-1.5 py-0.5 text-[13px]">{key}</kbd>
                  </dt>
                  <dd>{words}</dd>
                </div>
              ))}
            </dl>
          </section>
        ))}
      </div>
      <p className="mt-4 text-[13px] text-ink-2">Single keys work wherever nobody writes into a field.</p>
    </Sheet>
  );
}
