// Where the kinds of a thing are put in, one line each, and found by their name.

export class Registry<Kind> {
  readonly #kinds = new Map<string, Kind>();

  /** @param what what it holds, for sentences: 'kind of step' */
  constructor(readonly what: string) {}

  add(name: string, kind: Kind): void {
    if (this.#kinds.has(name)) throw new Error(`There is a ${this.what} called ${name} already.`);
    this.#kinds.set(name, kind);
  }

  get(name: string): Kind | null {
    return this.#kinds.get(name) ?? null;
  }

  /** All of them, in the order in which they were put in. */
  all(): Kind[] {
    return [...this.#kinds.values()];
  }
}
