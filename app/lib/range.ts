// The one range of bytes that a request asks for (RFC 9110, section 14.1.2).

/**
 * Both ends included, within `bytes`; null where the whole is to be given: nothing was asked, several ranges, or what is no
 * range of bytes. 'beyond' where nothing of it is there.
 */
export function rangeOf(header: string | null, bytes: number): { from: number; to: number } | 'beyond' | null {
  const match = /^bytes=(\d{0,15})-(\d{0,15})$/.exec(header?.trim() ?? '');
  if (!match || (match[1] === '' && match[2] === '')) return null;
  const [first, last] = [match[1]!, match[2]!];
  if (first === '') {
    const most = Math.min(Number(last), bytes);
    return most === 0 ? 'beyond' : { from: bytes - most, to: bytes - 1 };
  }
  const from = Number(first);
  if (last !== '' && Number(last) < from) return null;
  if (from >= bytes) return 'beyond';
  return { from, to: last === '' ? bytes - 1 : Math.min(Number(last), bytes - 1) };
}
