// What goes into an archive encoded anew: chosen kind by kind, with what it will weigh and a warning where it grows.
import { useNavigate } from 'react-router';
import clsx from 'clsx';
import { type Encoded, type Encoding, type Encodings, encodingsText } from '#core/archive/encoding.ts';
import { count, counted, size } from '#core/wording/amounts.ts';
import { useTo } from '../shell/links';
import { small } from './length';
import { Select } from '../ui/select';

export interface EncodedSum {
  files: number;
  /** About, and what they are now. */
  bytes: number;
  ofBytes: number;
  /** Why others go in as they are. */
  asTheyAre: { why: string; files: number }[];
}

const WORDS: Record<Encoding, string> = {
  lossless: 'encoded without loss (FFV1, FLAC)',
  viewing: 'small viewing copies (H.264)',
};

interface EncodeProps {
  part: Encoded;
  /** What it is called, for who does not see where it stands. */
  name: string;
  encode: Encodings;
  sum: EncodedSum | undefined;
}

export function EncodeChoice({ part, name, encode, sum }: EncodeProps) {
  const to = useTo();
  const navigate = useNavigate();
  const choose = (as: string) => {
    const next = { ...encode, [part]: as === '' ? undefined : (as as Encoding) };
    void navigate(to({ encode: encodingsText(next) || null }), { preventScrollReset: true, replace: true });
  };
  const chosen = encode[part];
  return (
    <div className="mt-1 grid gap-1 text-[13px]">
      <span>
        <Select
          aria-label={`${name}: as they are, or encoded anew`}
          value={chosen ?? ''}
          onChange={(event) => choose(event.target.value)}
          className={small}
        >
          <option value="">as they are</option>
          {Object.entries(WORDS).map(([as, words]) => (
            <option key={as} value={as}>
              {words}
            </option>
          ))}
        </Select>
      </span>
      {chosen && sum && <Sum sum={sum} encoding={chosen} />}
    </div>
  );
}

function Sum({ sum, encoding }: { sum: EncodedSum; encoding: Encoding }) {
  const { files, bytes, ofBytes, asTheyAre } = sum;
  const grows = bytes > ofBytes;
  return (
    <span className="text-ink-2">
      {files === 0 ? (
        'none of them can be encoded'
      ) : (
        <span className={clsx('block', grows && 'text-caution')}>
          {counted(files, 'file')}, {size(ofBytes)} as about {size(bytes)}
          {grows && ': it grows'}
        </span>
      )}
      {files > 0 && <span className="block">the time to encode them comes on top</span>}
      {encoding === 'viewing' && files > 0 && <span className="block">nobody can make the originals of them</span>}
      {asTheyAre.map(({ why, files: own }) => (
        <span key={why} className="block">
          {count(own)} as {own === 1 ? 'it is' : 'they are'}: {why}
        </span>
      ))}
    </span>
  );
}
