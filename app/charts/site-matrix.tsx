// Projects by volumes: the area of a square is what lies there. A table for eyes and screen readers alike.
import { scaleSqrt } from 'd3';
import { Link } from 'react-router';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { size } from '#core/wording/amounts.ts';
import { useFirstOnServer } from '../lib/hydrated';
import { useLens } from '../shell/links';
import { Scroll } from '../ui/scroll';

export interface MatrixProject {
  projectId: ProjectId;
  name: string;
  state: string;
  bytes: number;
  onVolumes: { volumeId: VolumeId; bytes: number; strayBytes: number }[];
}

const LARGEST_PX = 34;
const DRAWN_ON_SERVER = 24;

export function SiteMatrix({
  volumes,
  projects,
}: {
  volumes: { volumeId: VolumeId; name: string }[];
  projects: MatrixProject[];
}) {
  const lens = useLens();
  const most = Math.max(1, ...projects.flatMap((project) => project.onVolumes.map((on) => on.bytes)));
  const side = scaleSqrt([0, most], [0, LARGEST_PX]);
  const drawn = useFirstOnServer(projects, DRAWN_ON_SERVER);
  return (
    <Scroll label="Projects by volume" isWide>
      <table className="table" aria-rowcount={projects.length + 1}>
        <thead>
          <tr>
            <th scope="col">Project</th>
            {volumes.map((volume) => (
              <th key={volume.volumeId} scope="col" className="max-w-28 !text-center !whitespace-normal">
                {volume.name}
              </th>
            ))}
            <th scope="col" className="number">
              All
            </th>
          </tr>
        </thead>
        <tbody>
          {drawn.map((project) => (
            <tr key={project.projectId}>
              <th
                scope="row"
                className="!static max-w-56 truncate !bg-transparent !text-[13.5px] !font-normal"
                title={project.name}
              >
                <Link to={lens(`/projects/${project.projectId}`)} className="font-medium text-ink hover:underline">
                  {project.name}
                </Link>{' '}
                <span className="text-ink-2">{project.state}</span>
              </th>
              {volumes.map((volume) => (
                <td key={volume.volumeId} className="h-10 !py-0.5 text-center">
                  <Square
                    on={project.onVolumes.find((on) => on.volumeId === volume.volumeId)}
                    side={side}
                    left={project.state === 'delivered' || project.state === 'archived'}
                    where={`${project.name} on ${volume.name}`}
                  />
                </td>
              ))}
              <td className="number">{size(project.bytes)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}

interface SquareProps {
  on: { bytes: number; strayBytes: number } | undefined;
  side: (bytes: number) => number;
  left: boolean;
  where: string;
}

/** At home blue, strayed ochre (the part of it as the square's lower part), left behind dashed. */
function Square({ on, side, left, where }: SquareProps) {
  if (!on || on.bytes <= 0) return null;
  const px = Math.max(left ? 7 : 4, side(on.bytes));
  const strayed = left ? 0 : Math.min(1, on.strayBytes / on.bytes);
  const words = `${size(on.bytes)}${left ? ', left behind' : strayed > 0 ? `, ${size(on.strayBytes)} of it strayed` : ''}`;
  return (
    <span className="inline-flex h-9 items-center justify-center" title={`${where}: ${words}`}>
      <svg aria-hidden width={px} height={px}>
        {left ? (
          <rect
            x="1"
            y="1"
            width={px - 2}
            height={px - 2}
            rx="2"
            fill="var(--caution-wash)"
            stroke="var(--caution)"
            strokeWidth="1.6"
            strokeDasharray="3 2"
          />
        ) : (
          <>
            <rect width={px} height={px} rx="2" fill="var(--kind-source)" />
            {strayed > 0 && (
              <rect
                y={px * (1 - strayed)}
                width={px}
                height={px * strayed}
                rx={strayed === 1 ? 2 : 0}
                fill="var(--caution)"
              />
            )}
          </>
        )}
      </svg>
      <span className="sr-only">{words}</span>
    </span>
  );
}
