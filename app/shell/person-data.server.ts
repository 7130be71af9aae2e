// Keeps a person's name and colours in their cookies.
import { data } from 'react-router';
import type { Route } from './+types/person-data';
import { personForm } from '#contract/forms.ts';
import type { Answer } from '../lib/answer';
import { nameCookie, themeCookie } from '../person.server';

export async function action({ request }: Route.ActionArgs) {
  const parsed = personForm.safeParse(Object.fromEntries(await request.formData()));
  if (!parsed.success)
    return data<Answer>({ ok: false, error: `${parsed.error.issues[0]!.message} Nothing was changed.` }, 422);
  const headers = new Headers();
  if (parsed.data.name) headers.append('Set-Cookie', await nameCookie.serialize(parsed.data.name));
  if (parsed.data.theme) headers.append('Set-Cookie', await themeCookie.serialize(parsed.data.theme));
  return data<Answer>({ ok: true, said: 'Kept.' }, { headers });
}
