// How every action answers a form: parsed with its schema at the door; what is refused comes back as a sentence, and
// then nothing was changed.
import type { VolumeId } from '#core/model.ts';
import { data } from 'react-router';
import type { z } from 'zod';
import { checked, type FieldErrors, withoutChange } from '#contract/checked.ts';
import { Refused } from '#server/runtime/refused.ts';
import type { Answer } from './lib/answer.ts';

export async function answer<Schema extends z.ZodType>(
  request: Request,
  schema: Schema,
  work: (form: z.output<Schema>) => Promise<string | Answer>,
): Promise<ReturnType<typeof data<Answer>>> {
  const refuse = (error: string, fields?: FieldErrors) => data<Answer>({ ok: false, error, fields }, 422);
  let form: FormData;
  try {
    form = await request.formData();
  } catch {
    return refuse('The form could not be read. Nothing was changed. Send it again.');
  }
  const found = checked(form, schema);
  if (!found.ok) return refuse(withoutChange(found.error), found.fields);
  try {
    const said = await work(found.value);
    return data<Answer>(
      typeof said === 'string' ? { ok: true, said } : said,
      typeof said === 'string' || said.ok ? 200 : 422,
    );
  } catch (error) {
    if (error instanceof Refused) return refuse(error.message);
    throw error;
  }
}

/**
 * Volumes chosen in the rack, from the address: ?v=1,4; none where it names none. A 404 where it names one that there is
 * not: an old address must never mean all of the site.
 */
export function volumesAsked(request: Request, all: readonly { volumeId: VolumeId }[]): VolumeId[] {
  const asked = new URL(request.url).searchParams.get('v') ?? '';
  if (asked === '') return [];
  const known = new Map(all.map(({ volumeId }) => [String(volumeId), volumeId]));
  return asked.split(',').map((text) => {
    const id = known.get(text);
    if (id === undefined)
      throw new Response(
        'This address narrows to a volume that is not registered any more, so nothing is shown. Go back to the site and choose volumes anew.',
        { status: 404 },
      );
    return id;
  });
}

/** A number from the address; a 404 where it is none. */
export function idFrom(text: string | undefined, what: string): number {
  const id = Number(text);
  if (!Number.isSafeInteger(id) || id <= 0) throw new Response(`There is no such ${what}.`, { status: 404 });
  return id;
}
