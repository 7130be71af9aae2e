// Comma-separated text as RFC 4180 has it: lines end in CR LF, whatever could be misread is quoted.

/** Cells may begin like a formula; a table program must show them, not work them out. */
const looksLikeFormula = /^[=+@\-\t\r]/;

const cell = (text: string): string => {
  const safe = looksLikeFormula.test(text) ? `'${text}` : text;
  return /[",\r\n]/.test(safe) || safe !== safe.trim() ? `"${safe.replaceAll('"', '""')}"` : safe;
};

export const csvText = (head: readonly string[], rows: readonly (readonly string[])[]): string =>
  [head, ...rows].map((row) => `${row.map(cell).join(',')}\r\n`).join('');
