// What a form says, checked by its schema: the same in the browser, before it is sent, and at the door of the server.
import type { z } from 'zod';

export type FieldErrors = Record<string, string[]>;

/** Sentences that the schema has no words of its own for. */
const UNWORDED = /^(Invalid|Too |Expected|Required|Unrecognized)/;

const wordsOf = (message: string, name: string): string =>
  UNWORDED.test(message) ? `The form says something that was not expected${name ? ` in "${name}"` : ''}.` : message;

/** The sentence for all of a form: that nothing was done is said once, whoever says it. */
export const withoutChange = (error: string): string =>
  error.includes('Nothing was ') ? error : `${error} Nothing was changed.`;

/** What it means, or what is wrong with it: the first of all as a sentence, and of each field beside it. */
export function checked<Schema extends z.ZodType>(
  form: FormData,
  schema: Schema,
): { ok: true; value: z.output<Schema> } | { ok: false; error: string; fields: FieldErrors } {
  const parsed = schema.safeParse(Object.fromEntries(form));
  if (parsed.success) return { ok: true, value: parsed.data };
  const fields: FieldErrors = {};
  for (const { path, message } of parsed.error.issues) {
    const name = String(path[0] ?? '');
    (fields[name] ??= []).push(wordsOf(message, path.join('.')));
  }
  const [first] = parsed.error.issues;
  return { ok: false, error: wordsOf(first?.message ?? 'Invalid', first?.path.join('.') ?? ''), fields };
}
