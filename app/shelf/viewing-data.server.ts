// A viewing copy, or the bytes of it that a player asks for (RFC 9110, section 14).
import type { Route } from './+types/viewing-data';
import { viewingBytes, viewingContent } from '#server/archives/viewing.ts';
import { idFrom } from '../answer.server';
import { db } from '../db.server';
import { rangeOf } from '../lib/range';

/** A player asks on for what it did not get. */
const MOST_AT_ONCE = 4 << 20;

export async function loader({ params, request }: Route.LoaderArgs) {
  const fileId = idFrom(params.fileId, 'file');
  const bytes = await viewingBytes(db(), fileId);
  if (bytes === null) throw new Response('There is no viewing copy of it.', { status: 404 });
  const asked = rangeOf(request.headers.get('range'), bytes);
  const headers = { 'Content-Type': 'video/mp4', 'Accept-Ranges': 'bytes', 'Cache-Control': 'private, max-age=3600' };
  if (asked === 'beyond')
    return new Response(null, { status: 416, headers: { ...headers, 'Content-Range': `bytes */${bytes}` } });
  if (asked === null)
    return new Response(whole(fileId, bytes), { headers: { ...headers, 'Content-Length': String(bytes) } });
  const to = Math.min(asked.to, asked.from + MOST_AT_ONCE - 1);
  const content = await viewingContent(db(), fileId, { from: asked.from, to });
  return new Response(new Uint8Array(content), {
    status: 206,
    headers: { ...headers, 'Content-Range': `bytes ${asked.from}-${to}/${bytes}` },
  });
}

function whole(fileId: number, bytes: number): ReadableStream<Uint8Array> {
  let from = 0;
  return new ReadableStream({
    async pull(controller) {
      if (from >= bytes) return controller.close();
      const to = Math.min(bytes, from + MOST_AT_ONCE) - 1;
      controller.enqueue(new Uint8Array(await viewingContent(db(), fileId, { from, to })));
      from = to + 1;
    },
  });
}
