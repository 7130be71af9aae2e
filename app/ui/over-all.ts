// Where menus are hung up that lie over everything: in the tray, a landmark of the page, so that whoever goes from landmark to landmark
// finds them in one.

/** Undefined, which is the end of the page, where there is no tray. */
export const overAll = (): HTMLElement | undefined =>
  typeof document === 'undefined' ? undefined : (document.querySelector('footer') ?? undefined);
