// Lines up columns for a terminal; columns of numbers to the right.
export function table(rows: readonly (readonly string[])[]): string {
  const widths = rows[0]!.map((_, i) => Math.max(...rows.map((row) => row[i]!.length)));
  const numeric = widths.map((_, i) => rows.length > 1 && rows.slice(1).every((row) => /^[−\d]/.test(row[i]!)));
  return rows
    .map((row) =>
      row
        .map((cell, i) => (numeric[i] ? cell.padStart(widths[i]!) : cell.padEnd(widths[i]!)))
        .join('  ')
        .trimEnd(),
    )
    .join('\n');
}
