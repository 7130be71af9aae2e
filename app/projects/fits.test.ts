import { EVERY, fits } from './fits.ts';

const fog = { name: 'Fog Signals', client: 'Küstenfunk', state: 'in work' };

test('every word is somewhere in the name or the client, in capitals or not', () => {
  for (const words of ['', 'fog', 'SIGN fog', '  küsten  fog ', 'funk'])
    expect([words, fits(fog, { ...EVERY, words })]).toEqual([words, true]);
  for (const words of ['ferry', 'fog ferry', 'in work'])
    expect([words, fits(fog, { ...EVERY, words })]).toEqual([words, false]);
});

test('state and client are meant whole', () => {
  expect(fits(fog, { ...EVERY, state: 'in work', client: 'Küstenfunk' })).toBe(true);
  expect(fits(fog, { ...EVERY, state: 'work' })).toBe(false);
  expect(fits(fog, { ...EVERY, client: 'Küsten' })).toBe(false);
});
