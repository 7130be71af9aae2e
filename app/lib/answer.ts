// What an action tells its form.
/** `undo`: number of the receipt by which what was done can be undone. */
export type Answer = { ok: true; said: string; undo?: number } | { ok: false; error: string };
