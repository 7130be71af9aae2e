// Of what takes too long to be looked at whole every time: another part of it every day, and all of it where SWEEP=all asks for it.
const TODAY = Math.floor(Date.now() / 86_400_000);
const WHOLE = process.env.SWEEP === 'all';

/** Whether it is the turn of what has this place in its list, where one of `parts` is looked at a day. */
export const isOfToday = (place: number, parts: number): boolean => WHOLE || (place + TODAY) % parts === 0;

export const ofToday = <Item>(all: readonly Item[], parts: number): Item[] =>
  all.filter((_, place) => isOfToday(place, parts));
