// So many bytes a second and no more, so that who works beside it feels nothing of it. Pure; the clock is passed in, in milliseconds.

export class Pace {
  private due: number | null = null;

  constructor(
    private readonly bytesPerSecond: number,
    private readonly now: () => number,
  ) {}

  /** How long to wait after so many bytes more. Time in which nothing came is not made up for. */
  after(bytes: number): number {
    const now = this.now();
    this.due = Math.max(this.due ?? now, now) + (bytes / this.bytesPerSecond) * 1000;
    return this.due - now;
  }
}
