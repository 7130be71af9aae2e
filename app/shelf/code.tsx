// A QR code, drawn: dark on white in either theme, as scanners want it.
import type { Label } from './labels.server.ts';

const QUIET = 4;

export function Code({ code, name, className }: { code: Label; name: string; className?: string }) {
  const whole = code.size + 2 * QUIET;
  return (
    <svg
      role="img"
      aria-label={`QR code of ${name}`}
      viewBox={`${-QUIET} ${-QUIET} ${whole} ${whole}`}
      shapeRendering="crispEdges"
      className={className}
    >
      <rect x={-QUIET} y={-QUIET} width={whole} height={whole} fill="#fff" />
      <path d={code.path} fill="#000" />
    </svg>
  );
}
