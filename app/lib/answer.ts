// What an action tells its form.
import type { FieldErrors } from '#contract/checked.ts';

/** `undo`: number of the receipt by which what was done can be undone. */
export type Answer =
  | { ok: true; said: string; undo?: number }
  /** `fields`: what is wrong with which, where the form itself is. */
  | { ok: false; error: string; fields?: FieldErrors };
