// Opens the plan or the work in the tray from wherever that is the next step: from within a dialog, say, that would have to be
// closed first.

const NAMES = { plan: 'keramion open plan', work: 'keramion open work' } as const;
export type InTray = keyof typeof NAMES;

export const openTray = (what: InTray): void => void window.dispatchEvent(new Event(NAMES[what]));

/** Calls back when somebody asks for one of the two; returns how to stop listening. */
export function onOpenTray(open: (what: InTray) => void): () => void {
  const heard = (['plan', 'work'] as const).map((what) => [NAMES[what], () => open(what)] as const);
  for (const [name, hear] of heard) window.addEventListener(name, hear);
  return () => {
    for (const [name, hear] of heard) window.removeEventListener(name, hear);
  };
}
