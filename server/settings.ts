// Settings from the environment, checked at the door. The README lists them.
import { z } from 'zod';

const schema = z.object({
  KERAMION_DATABASE: z.string().startsWith('mysql://', 'must be a mysql:// address'),
  KERAMION_PORT: z.coerce.number().int().min(1).max(65535).default(4700),
  KERAMION_HOST: z.string().min(1).default('127.0.0.1'),
  KERAMION_LEASE_SECONDS: z.coerce.number().min(1).max(600).default(15),
  /** Files of a removal that are written down together. */
  KERAMION_BATCH: z.coerce.number().int().min(1).max(20_000).default(2500),
  /** JSON: paths that this worker has to stores, by their names, where they are not the registered ones. */
  KERAMION_PATHS: z
    .string()
    .default('{}')
    .transform((text, context): unknown => {
      try {
        return JSON.parse(text);
      } catch {
        context.addIssue({ code: 'custom', message: 'is no JSON, like {"loft-1 scratch": "/mnt/loft-1"}' });
        return z.NEVER;
      }
    })
    .pipe(z.record(z.string(), z.string().startsWith('/', 'must hold full paths'))),
  /** Names under which the interface is asked for, apart from localhost and the address it listens on. */
  KERAMION_NAMES: z
    .string()
    .default('')
    .transform((text) =>
      text
        .split(/[\s,]+/)
        .filter(Boolean)
        .map((name) => name.toLowerCase()),
    ),
});

export interface Settings {
  databaseUrl: string;
  port: number;
  host: string;
  leaseSeconds: number;
  /** Paths that this worker has to stores, by their names. */
  paths: Record<string, string>;
  batch: number;
  /** Names of this server that are answered to, beside localhost. */
  names: string[];
}

export function settings(env: NodeJS.ProcessEnv = process.env): Settings {
  const parsed = parsedBy(schema, env);
  return {
    databaseUrl: parsed.KERAMION_DATABASE,
    port: parsed.KERAMION_PORT,
    host: parsed.KERAMION_HOST,
    names: parsed.KERAMION_NAMES,
    ...workerSettings(env),
  };
}

/** What only a worker has to know, whichever database it was given. */
export function workerSettings(
  env: NodeJS.ProcessEnv = process.env,
): Pick<Settings, 'leaseSeconds' | 'paths' | 'batch'> {
  const { KERAMION_LEASE_SECONDS, KERAMION_PATHS, KERAMION_BATCH } = parsedBy(
    schema.pick({ KERAMION_LEASE_SECONDS: true, KERAMION_PATHS: true, KERAMION_BATCH: true }),
    env,
  );
  return { leaseSeconds: KERAMION_LEASE_SECONDS, paths: KERAMION_PATHS, batch: KERAMION_BATCH };
}

function parsedBy<Schema extends z.ZodType>(by: Schema, env: NodeJS.ProcessEnv): z.output<Schema> {
  const parsed = by.safeParse(env);
  if (parsed.success) return parsed.data;
  throw new Error(
    `A setting is wrong: ${parsed.error.issues.map((i) => `${i.path.join('.')} ${i.message}`).join('; ')}.`,
  );
}
