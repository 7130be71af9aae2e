// Which projects a list of them is narrowed to.

export interface Asked {
  words: string;
  state: string;
  client: string;
}

export const EVERY: Asked = { words: '', state: '', client: '' };

/** Every word somewhere in its name or its client's, in any case. */
export const fits = (row: { name: string; client: string; state: string }, { words, state, client }: Asked): boolean =>
  (state === '' || row.state === state) &&
  (client === '' || row.client === client) &&
  words
    .toLowerCase()
    .split(/\s+/)
    .every((word) => `${row.name} ${row.client}`.toLowerCase().includes(word));
