// What a worker sees in a folder of this server: asked while somebody chooses one.
import { data } from 'react-router';
import type { Route } from './+types/folders-data';
import { folderAsked } from '#contract/forms.ts';
import { Refused } from '#server/runtime/refused.ts';
import { lookIntoFolder } from '#server/stores/folder-list.ts';
import { db } from '../db.server';
import { personOf } from '../person.server';

export async function loader({ request }: Route.LoaderArgs) {
  const asked = folderAsked.safeParse(new URL(request.url).searchParams.get('path') ?? '/');
  if (!asked.success) return data({ ok: false as const, error: asked.error.issues[0]!.message }, 422);
  try {
    const looked = await lookIntoFolder(db(), asked.data, { who: await personOf(request), now: new Date() });
    return { ok: true as const, ...looked };
  } catch (error) {
    if (error instanceof Refused) return data({ ok: false as const, error: error.message }, 422);
    throw error;
  }
}
