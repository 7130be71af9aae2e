// Projects by volumes: the area of a square is what lies there. A table for eyes and screen readers alike.
import { scaleSqrt } from 'd3';
import { Link } from 'react-router';
import type { ProjectId, VolumeId } from '#core/model.ts';
import { size } from '#core/say/amounts.ts';
import { useLens } from '../shell/links';

export interface MatrixProject {
  projectId: ProjectId;
  name: string;
  state: string;
  bytes: number;
  onVolumes: { volumeId: VolumeId; bytes: number }[];
}

const LARGEST_PX = 34;

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
  return (
    <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="Projects by volume">
      <table className="table">
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
          {projects.map((project) => (
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
                    bytes={project.onVolumes.find((on) => on.volumeId === volume.volumeId)?.bytes ?? 0}
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
    </div>
  );
}

function Square({
  bytes,
  side,
  left,
  where,
}: {
  bytes: number;
  side: (bytes: number) => number;
  left: boolean;
  where: string;
}) {
  if (bytes <= 0) return null;
  const px = Math.max(left ? 7 : 4, side(bytes));
  const words = `${size(bytes)}${left ? ', left behind' : ''}`;
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
          <rect width={px} height={px} rx="2" fill="var(--kind-source)" />
        )}
      </svg>
      <span className="sr-only">{words}</span>
    </span>
  );
}
