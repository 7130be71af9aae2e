// What is wrong with a form is said once as a sentence and beside each field, in words of the schema where it has some.
import { z } from 'zod';
import { checked, withoutChange } from './checked.ts';
import { placesForm, projectsForm } from './forms.ts';

const form = (fields: Record<string, string>) => {
  const data = new FormData();
  for (const [name, value] of Object.entries(fields)) data.append(name, value);
  return data;
};

test('a form that says what is expected', () => {
  expect(checked(form({ a: ' fog ' }), z.object({ a: z.string().trim() }))).toEqual({ ok: true, value: { a: 'fog' } });
});

test('every field says its own, the first of them the sentence', () => {
  const volume = {
    intent: 'add volume',
    station: '',
    role: 'server',
    name: '',
    path: '',
    duty: 'source',
    capacity: 'x',
  };
  const found = checked(form(volume), placesForm);
  expect(found.ok).toBe(false);
  if (found.ok) return;
  expect(Object.keys(found.fields).sort()).toEqual(expect.arrayContaining(['capacity', 'name', 'path', 'station']));
  for (const said of Object.values(found.fields).flat()) expect(said).toMatch(/^[A-Z"].*\.$/);
  expect(Object.values(found.fields).flat()).toContain(found.error);
});

test('that nothing was done is said once', () => {
  expect(withoutChange('Say who gets it. Nothing was added.')).toBe('Say who gets it. Nothing was added.');
  expect(withoutChange('The name is empty.')).toBe('The name is empty. Nothing was changed.');
});

test('what the schema has no words for is told by its name', () => {
  const found = checked(form({ intent: 'nothing known' }), projectsForm);
  expect(found).toMatchObject({ ok: false, error: 'The form says something that was not expected in "intent".' });
  const deep = checked(form({ n: 'x' }), z.object({ n: z.coerce.number() }));
  expect(deep).toMatchObject({ ok: false, fields: { n: ['The form says something that was not expected in "n".'] } });
});
