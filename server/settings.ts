// Settings from the environment, checked at the door. The README lists them.
import { z } from 'zod';

const schema = z.object({
  KERAMION_DATABASE: z.string().startsWith('mysql://', 'must be a mysql:// address'),
  KERAMION_PORT: z.coerce.number().int().min(1).max(65535).default(4700),
  KERAMION_HOST: z.string().min(1).default('127.0.0.1'),
  KERAMION_LEASE_SECONDS: z.coerce.number().min(1).max(600).default(15),
  KERAMION_POSTERS: z.string().min(1).default('var/posters'),
});

export interface Settings {
  databaseUrl: string;
  port: number;
  host: string;
  leaseSeconds: number;
  /** Folder of the pictures made of media; the start command says it, not the user. */
  posters: string;
}

export function settings(env: NodeJS.ProcessEnv = process.env): Settings {
  const parsed = schema.safeParse(env);
  if (!parsed.success)
    throw new Error(
      `A setting is wrong: ${parsed.error.issues.map((i) => `${i.path.join('.')} ${i.message}`).join('; ')}.`,
    );
  const { KERAMION_DATABASE, KERAMION_PORT, KERAMION_HOST, KERAMION_LEASE_SECONDS, KERAMION_POSTERS } = parsed.data;
  return {
    databaseUrl: KERAMION_DATABASE,
    port: KERAMION_PORT,
    host: KERAMION_HOST,
    leaseSeconds: KERAMION_LEASE_SECONDS,
    posters: KERAMION_POSTERS,
  };
}
