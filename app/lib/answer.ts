// What an action tells its form.
export type Answer = { ok: true; said: string } | { ok: false; error: string };
