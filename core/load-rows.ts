// Rows as LOAD DATA reads them: fields parted by tabs, ended by a line end. Called by the threads that read folders, and by
// who writes folders down.

const SPECIAL = /[\\\t\n\r\0]/;
const ESCAPES: Record<string, string> = { '\\': '\\\\', '\t': '\\t', '\n': '\\n', '\r': '\\r', '\0': '\\0' };

const escaped = (text: string): string =>
  SPECIAL.test(text) ? text.replace(/[\\\t\n\r\0]/g, (letter) => ESCAPES[letter]!) : text;

/** One field; null is no value. */
export const field = (value: string | number | null): string =>
  value === null ? '\\N' : typeof value === 'number' ? String(value) : escaped(value);

/** One row with its end. */
export const rowOf = (values: readonly (string | number | null)[]): string => `${values.map(field).join('\t')}\n`;
