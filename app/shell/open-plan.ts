// Opens the plan in the tray from wherever something was added to it: from within a dialog, say, that would have to be closed first.

const OPEN_PLAN = 'keramion open plan';

export const openPlan = (): void => void window.dispatchEvent(new Event(OPEN_PLAN));

/** Calls back when somebody asks for the plan; returns how to stop listening. */
export function onOpenPlan(open: () => void): () => void {
  window.addEventListener(OPEN_PLAN, open);
  return () => window.removeEventListener(OPEN_PLAN, open);
}
