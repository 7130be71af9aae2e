// A picture of media, where there is one. What cannot be shown leaves its place empty, also where the picture failed
// before the page was awake.
import { useEffect, useRef, useState } from 'react';

export function Picture({ fileId, at = 0 }: { fileId: number; at?: number }) {
  const [failed, setFailed] = useState(false);
  const image = useRef<HTMLImageElement>(null);
  useEffect(() => {
    if (image.current?.complete && image.current.naturalWidth === 0) setFailed(true);
  }, []);
  if (failed) return null;
  return (
    <img
      ref={image}
      src={`/poster/${fileId}${at === 0 ? '' : `?at=${at}`}`}
      alt=""
      loading="lazy"
      className="h-full w-full object-cover"
      onError={() => setFailed(true)}
    />
  );
}
