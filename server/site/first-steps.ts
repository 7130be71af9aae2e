// How far a house is that begins: whether it has what everything else stands on. Asked by Site, which leads on as long as something lacks.
import { sql } from 'drizzle-orm';
import type { Db } from '../db/connect.ts';

export interface FirstSteps {
  volume: boolean;
  reading: boolean;
  project: boolean;
  home: boolean;
  /** Any project, to go on with. */
  projectId: number | null;
}

export async function firstSteps(db: Db): Promise<FirstSteps> {
  const [[row]] = (await db.execute(sql`
    SELECT EXISTS(SELECT 1 FROM volumes WHERE retired_at IS NULL) AS volume, EXISTS(SELECT 1 FROM folders) AS reading,
      EXISTS(SELECT 1 FROM homes) AS home, (SELECT MIN(id) FROM projects) AS projectId`)) as unknown as [
    { volume: number; reading: number; home: number; projectId: number | null }[],
  ];
  const { volume, reading, home, projectId } = row!;
  return {
    ...{ volume: Boolean(volume), reading: Boolean(reading), home: Boolean(home) },
    project: projectId !== null,
    projectId: projectId === null ? null : Number(projectId),
  };
}
