// Documents of an archive as they are brought back: their references lead to where the media will lie. Called by the step that
// restores, with what it has built in its private folder.
import { eq } from 'drizzle-orm';
import { UNTITLED } from '#core/documents/formats/otio.ts';
import { pruneOtio } from '#core/documents/prune.ts';
import { relinkOtio } from '#core/documents/relink.ts';
import { fileUrlOf, pathOfUrl } from '#core/documents/targets.ts';
import { folderOf, joinPath, liesIn, resolveInside } from '#core/paths.ts';
import { readSmall } from '#disk/beside.ts';
import type { Root } from '#disk/root.ts';
import { replaceOwn } from '#disk/write.ts';
import type { Only } from '../archives/contents.ts';
import { stepItems, type steps } from '../db/schema/plans.ts';
import type { volumes } from '../db/schema/stores.ts';
import type { JobContext } from '../runtime/context.ts';
import { STAYED_OUT } from './archive-documents.ts';

/** What lies in the private folder, and where that will be. */
export interface Built {
  context: JobContext;
  step: typeof steps.$inferSelect;
  volume: typeof volumes.$inferSelect;
  folder: string;
  only: Only | null;
  root: Root | null;
}

/** Points the documents' references, relative inside the bag, to where the media will lie. */
export async function relinkDocuments(
  { context, step, volume, folder, only, root: on }: Built,
  built: string,
): Promise<void> {
  const root = on!;
  const rows = await context.db.select({ path: stepItems.path }).from(stepItems).where(eq(stepItems.stepId, step.id));
  const inside = rows.map((row) => row.path);
  const there = new Set(inside);
  const final = joinPath(volume.path, folder);
  for (const document of inside.filter((at) => folderOf(at) === 'documents' && /\.otio$/i.test(at))) {
    const at = joinPath(built, document);
    const text = readSmall(root, at);
    const to = (url: string) =>
      url === '' || url.startsWith('/') || /^[a-z]+:/i.test(url) ? null : resolveInside('documents', pathOfUrl(url));
    const original = there.has(`${document}.original`)
      ? readSmall(root, joinPath(built, `${document}.original`))
      : null;
    const were = placesBefore(original);
    const relinked = relinkOtio(text, {
      file: (url) => {
        const [found, was] = [to(url), were.files.shift()];
        if (found !== null && there.has(found)) return fileUrlOf(`${final}/${found}`);
        // What stayed out of the archive, or on it, may still lie where it was.
        return found !== null && (only || liesIn(found, STAYED_OUT)) ? (was ?? null) : null;
      },
      sequence: (base, prefix) => {
        const [found, was] = [to(base), were.sequences.shift()];
        if (found !== null && inside.some((file) => file.startsWith(`${found}/${prefix}`)))
          return `${fileUrlOf(`${final}/${found}`)}/`;
        return found !== null && (only || liesIn(found, STAYED_OUT)) ? (was ?? null) : null;
      },
    });
    // A document that was asked for by itself is wanted as it is.
    const isNamed = only !== null && only.timelines.length + only.bins.length > 0;
    const kept = isNamed ? withoutRest(relinked.text, { only, final, there }) : relinked.text;
    if (kept === text) continue;
    // Written over only inside the private folder: the relative one is on the carrier, and the original lies beside it.
    const place = root.placeText(at);
    const temporary = (await context.names()).place(root, 'text', step.id);
    replaceOwn(place, kept, temporary);
  }
}

/** Of a document what was asked for: those timelines, and clips whose media came along. The untouched original lies beside it. */
function withoutRest(
  text: string,
  { only, final, there }: { only: Only; final: string; there: ReadonlySet<string> },
): string {
  const below = fileUrlOf(`${final}/`);
  const isHere = (url: string) =>
    url.startsWith(below) && (there.has(pathOfUrl(url).slice(final.length + 1)) || url.endsWith('/'));
  return pruneOtio(text, {
    keepsTimeline: (name) => only.timelines.includes(name || UNTITLED),
    keepsClip: (targets) => targets.some(isHere),
  });
}

/** The references of the untouched original, in the order in which the relinked document has its own. */
function placesBefore(original: string | null): { files: string[]; sequences: string[] } {
  const were = { files: [] as string[], sequences: [] as string[] };
  if (original !== null)
    relinkOtio(original, {
      file: (url) => (were.files.push(url), null),
      sequence: (base) => (were.sequences.push(base), null),
    });
  return were;
}
