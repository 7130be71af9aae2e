// An address where nothing is: told inside the frame, and as 404.
import { data, Link } from 'react-router';
import { Sentence } from '../ui/parts';

export const loader = () => data(null, { status: 404 });

export default function Nowhere() {
  return (
    <>
      <Sentence>There is nothing at this address.</Sentence>
      <p className="mt-3">
        <Link to="/" className="text-accent underline">
          Back to the site
        </Link>
      </p>
    </>
  );
}
